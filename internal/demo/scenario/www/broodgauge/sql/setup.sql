-- Broodgauge: the sensors in the hives, and what they measure.
SET NAMES utf8mb4;

CREATE TABLE sensors (
  -- Codes are compared as they are written: a1 and A1 are two sensors.
  code VARCHAR(12) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  hive VARCHAR(20) NOT NULL,
  placed DATE NOT NULL,
  moved INT NOT NULL DEFAULT 0,
  PRIMARY KEY (code)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;

CREATE TABLE readings (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT,
  sensor VARCHAR(12) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  taken DATETIME NOT NULL,
  raw SMALLINT NOT NULL,
  remark VARCHAR(60) NOT NULL DEFAULT '',
  PRIMARY KEY (id),
  KEY sensor_taken (sensor, taken),
  KEY taken (taken)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;

CREATE TABLE alarms (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  sensor VARCHAR(12) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  raised DATETIME NOT NULL,
  text VARCHAR(120) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;

DELIMITER //
CREATE DEFINER=`builder`@`workshop` FUNCTION celsius(raw SMALLINT) RETURNS DECIMAL(4,1)
BEGIN
  RETURN raw / 16.0 - 4;
END//

CREATE DEFINER=`builder`@`workshop` TRIGGER sensor_moved BEFORE UPDATE ON sensors FOR EACH ROW
BEGIN
  IF NEW.hive <> OLD.hive THEN
    SET NEW.moved = OLD.moved + 1;
  END IF;
END//
DELIMITER ;

CREATE VIEW warmest AS SELECT sensor, MAX(raw) AS raw FROM readings GROUP BY sensor;
