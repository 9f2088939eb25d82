# Reads every row of a database into its type and stores it in another.
import sqlite3, sys
import models

before, after = sqlite3.connect(sys.argv[1]), sqlite3.connect(sys.argv[2])
before.row_factory = sqlite3.Row
for name, table in (("Box", "boxes"), ("Sheet", "sheets")):
    for stored in before.execute(f"SELECT * FROM {table} ORDER BY id"):
        one = getattr(models, name).from_row(stored)
        row = one.to_row()
        places = ", ".join("?" * len(row))
        after.execute(f"INSERT INTO {table} ({', '.join(row)}) VALUES ({places})", list(row.values()))
after.commit()
