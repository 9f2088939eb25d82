CREATE TABLE `tbl_accession` (`ID` bigint(20) unsigned NOT NULL AUTO_INCREMENT, `acc_author` bigint(20) unsigned NOT NULL DEFAULT 0,
  `acc_date` datetime NOT NULL DEFAULT '2000-01-01 00:00:00', `acc_content` longtext NOT NULL, `acc_title` text NOT NULL,
  `acc_state` varchar(20) NOT NULL DEFAULT 'open', `acc_word` varchar(255) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  `sheet_count` bigint(20) NOT NULL DEFAULT '0', `price` double NOT NULL DEFAULT '0', `f` float(7,3) DEFAULT '1.500',
  `e` enum('0','1') NOT NULL DEFAULT '0', `c` char(1) NOT NULL DEFAULT 'N', `u` varchar(36) CHARACTER SET ascii COLLATE ascii_general_ci DEFAULT NULL,
  PRIMARY KEY (`ID`), KEY `acc_name` (`acc_title`(191)), KEY `state_date` (`acc_state`,`acc_date`,`ID`), KEY `acc_author` (`acc_author`)
) ENGINE=InnoDB AUTO_INCREMENT=77 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci;

CREATE TABLE collectors (id int(10) unsigned NOT NULL AUTO_INCREMENT, name varchar(120) NOT NULL DEFAULT '' COMMENT 'full name; it''s "so"',
  mail varchar(190) COLLATE utf8mb4_bin DEFAULT NULL, joined datetime DEFAULT current_timestamp() ON UPDATE current_timestamp(),
  seen timestamp NOT NULL DEFAULT current_timestamp(), state enum('new','old','on hold') NOT NULL DEFAULT 'new', flags set('a','b') DEFAULT NULL,
  tiny tinyint(4) DEFAULT 0, ok tinyint(1) NOT NULL DEFAULT '1', note mediumtext, blobby blob, bin binary(16) DEFAULT NULL,
  price decimal(10,2) unsigned DEFAULT '0.00', born year(4) DEFAULT NULL, ratio double(8,2) DEFAULT NULL, z int(5) unsigned zerofill DEFAULT NULL,
  day date NOT NULL DEFAULT '2000-01-01', js longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL CHECK (json_valid(`js`)),
  PRIMARY KEY (id), UNIQUE KEY mail (mail), KEY name (name(20)), FULLTEXT KEY ft (note), KEY hash_it (tiny) USING HASH
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci COMMENT='those who collect';

CREATE TABLE card_parts (part int NOT NULL, card bigint(20) NOT NULL AUTO_INCREMENT, collector_id int(10) unsigned NOT NULL,
  other_id int(10) unsigned DEFAULT NULL, quantity smallint(5) unsigned NOT NULL DEFAULT 1, total int GENERATED ALWAYS AS (quantity * part) STORED,
  vt int AS (quantity + 1) VIRTUAL, PRIMARY KEY (part, card), KEY card (card), KEY name (quantity, part DESC),
  CONSTRAINT card_parts_ibfk_1 FOREIGN KEY (collector_id) REFERENCES collectors (id) ON DELETE CASCADE,
  CONSTRAINT fk_other FOREIGN KEY (other_id) REFERENCES collectors (id) ON DELETE SET NULL ON UPDATE CASCADE,
  CONSTRAINT positive CHECK (quantity > 0)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci ROW_FORMAT=COMPRESSED;

CREATE TABLE old_latin (code char(3) NOT NULL, txt text, amount int CHECK (amount > 3), at datetime(3) NULL, tm time, PRIMARY KEY (code)
) ENGINE=MyISAM DEFAULT CHARSET=latin1 COLLATE=latin1_swedish_ci;

CREATE TABLE old_things (a int(11) DEFAULT NULL, b varchar(30) CHARACTER SET utf8 DEFAULT NULL,
  t timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(), KEY `a` (`a`), KEY `a_2` (`a`), KEY `b` (`b`(10),`a`)
) ENGINE=MyISAM DEFAULT CHARSET=utf8 COMMENT='it''s old';

CREATE TABLE tree (id int(11) NOT NULL AUTO_INCREMENT, parent int(11) DEFAULT NULL, lft int(11), PRIMARY KEY (id), KEY `IDX_ABC` (parent),
  CONSTRAINT `FK_ABC` FOREIGN KEY (parent) REFERENCES tree (id)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci;

CREATE TABLE circle_a (id int PRIMARY KEY, b int, KEY b (b)) ENGINE=InnoDB;

CREATE TABLE circle_b (id int PRIMARY KEY, a int, CONSTRAINT fk_ba FOREIGN KEY (a) REFERENCES circle_a (id)) ENGINE=InnoDB;

ALTER TABLE circle_a ADD CONSTRAINT fk_ab FOREIGN KEY (b) REFERENCES circle_b (id) ON UPDATE CASCADE;

CREATE TABLE parts_of (id int NOT NULL, y int NOT NULL, PRIMARY KEY (id, y)) ENGINE=InnoDB PARTITION BY RANGE (y) (PARTITION p0 VALUES LESS THAN (2000), PARTITION p1 VALUES LESS THAN MAXVALUE);

CREATE TABLE hist (id int PRIMARY KEY, v varchar(10)) WITH SYSTEM VERSIONING;

CREATE TABLE gen (id int PRIMARY KEY, js longtext CHECK (json_valid(js)), name varchar(40) GENERATED ALWAYS AS (json_value(js,'$.name')) VIRTUAL,
  KEY n (name), pt point, lat decimal(9,6));

CREATE SEQUENCE numbers START WITH 100 INCREMENT BY 10;

CREATE TABLE uses_sequence (id bigint NOT NULL DEFAULT nextval(`numbers`), `key` varchar(10), `order` int, PRIMARY KEY (id), UNIQUE KEY `key` (`key`), UNIQUE KEY `order` (`order`,`key`));

CREATE TABLE `ünïcode` (`größe` int, `naïve col` varchar(10) DEFAULT 'ä''b\\c', KEY `größe` (`größe`));

CREATE PROCEDURE pr(IN x int, OUT y int) COMMENT 'does it' BEGIN DECLARE z int DEFAULT 1; SET y = x + z; END;

CREATE FUNCTION twice(n int) RETURNS int DETERMINISTIC RETURN 2*n;

CREATE TRIGGER t_ai AFTER INSERT ON tree FOR EACH ROW BEGIN INSERT INTO old_things (a) VALUES (NEW.id); UPDATE old_things SET b = 'x;y' WHERE a = 1; END;

CREATE TRIGGER t_ai2 AFTER INSERT ON tree FOR EACH ROW FOLLOWS t_ai SET @x = 1;

CREATE ALGORITHM=MERGE SQL SECURITY INVOKER VIEW v1 AS SELECT c.id, c.name, p.quantity FROM collectors c JOIN card_parts p ON p.collector_id = c.id;

CREATE VIEW v2 AS SELECT * FROM v1 WHERE twice(id) > 3;

CREATE TABLE `sheets_of_old_sheets_of_old_sheets_of_old_sheets_of_old_sheets_o` (id int PRIMARY KEY, n int);

CREATE TABLE long_column (id int PRIMARY KEY, `number_of_old_number_of_old_number_of_old_number_of_old_number_o` int);


CREATE TABLE begun (`text` varchar(255) NOT NULL, body mediumtext NOT NULL, n bigint NOT NULL, PRIMARY KEY (n, body(75)), KEY `text` (`text`(40)));

CREATE TABLE begun_alone (word varchar(128) NOT NULL, n int, PRIMARY KEY (word(20)));

CREATE PROCEDURE counting(IN top int) again:BEGIN DECLARE n int DEFAULT 0; count_up:LOOP SET n = n + 1; IF n > top THEN LEAVE again; END IF; END LOOP count_up; END;

CREATE TABLE all_bytes (id int NOT NULL, word varchar(40) DEFAULT NULL, e enum('a','b') DEFAULT 'a', PRIMARY KEY (id)) ENGINE=InnoDB DEFAULT CHARSET=binary;
