<?php
// Reads every row of a database into its type and stores it in another.
error_reporting(E_ALL);
require 'types.php';
[$before, $after] = [new PDO('sqlite:' . $argv[1]), new PDO('sqlite:' . $argv[2])];
foreach (['Box' => 'boxes', 'Sheet' => 'sheets'] as $name => $table) {
    foreach ($before->query("SELECT * FROM $table ORDER BY id", PDO::FETCH_ASSOC) as $stored) {
        $row = $name::fromRow($stored)->toRow();
        $places = implode(', ', array_fill(0, count($row), '?'));
        $insert = $after->prepare("INSERT INTO $table (" . implode(', ', array_keys($row)) . ") VALUES ($places)");
        foreach (array_values($row) as $i => $value) {
            $kind = array_keys($row)[$i] === 'picture' && $value !== null ? PDO::PARAM_LOB
                : (is_int($value) ? PDO::PARAM_INT : ($value === null ? PDO::PARAM_NULL : PDO::PARAM_STR));
            $insert->bindValue($i + 1, $value, $kind);
        }
        $insert->execute();
    }
}
$change = new SheetUpdate(dry: false, marks: null);
if ($change->toRow() !== ['dry' => 0, 'marks' => null]) {
    throw new Exception(var_export($change->toRow(), true));
}
