-- Rows for the first state of the example, as an application would write them.
INSERT INTO collectors (name, email, joined_on) VALUES
    ('Ada Verdi', 'ada@garden.example', '2019-03-02'),
    ('Bruno Salce', 'bruno@garden.example', '2021-05-17'),
    ('Mirta Ontano', 'mirta@garden.example', '2024-09-30');
INSERT INTO borrowers (institution, contact) VALUES
    ('Museum of the Two Rivers', 'loans@rivers.example'),
    ('Alpine School of Vall', NULL);
INSERT INTO taxa (name, parent_id) VALUES ('Asteraceae', NULL), ('Salicaceae', NULL);
INSERT INTO taxa (name, parent_id) VALUES ('Bellis perennis', 1), ('Arnica montana', 1), ('Salix herbacea', 2), ('Salix alba', 2);
INSERT INTO localities (name, elevation_m) VALUES ('Lower terrace', 210), ('North slope', 1480), ('Old quarry', NULL);
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 240)
INSERT INTO specimens (accession, taxon_id, collector_id, locality_id, collected_on, weight_g, rarity, mounted, notes)
SELECT printf('HB-%04d', i), 3 + i % 4, CASE WHEN i % 10 = 0 THEN NULL ELSE 1 + i % 3 END, 1 + i % 3,
       date('2020-01-01', printf('+%d days', i * 7)), round(0.5 + (i * 37 % 100) / 8.0, 3),
       CASE WHEN i % 20 = 0 THEN 'threatened' WHEN i % 7 = 0 THEN 'scarce' ELSE 'common' END, i % 3 <> 0,
       CASE WHEN i % 12 = 0 THEN '{"sheet": 2}' ELSE '{}' END
FROM n;
INSERT INTO determinations (specimen_id, taxon_id, determined_by, determined_on)
SELECT id, taxon_id, 'Livia Cardo', date(collected_on, '+30 days') FROM specimens WHERE id % 5 = 0;
INSERT INTO loans (specimen_id, borrower_id, lent_on, due_on)
SELECT id, 1 + id % 2, '2026-02-01', '2026-08-01' FROM specimens WHERE id % 40 = 0;
