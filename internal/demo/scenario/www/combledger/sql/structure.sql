-- Combledger, structure of the tables.
-- @prefix_ stands for the table prefix; it is replaced when the file is imported.

/*!40101 SET NAMES utf8mb4 */;

CREATE TABLE `@prefix_members` (
  `id` INT UNSIGNED NOT NULL AUTO_INCREMENT,
  `name` VARCHAR(80) NOT NULL,
  `login` VARCHAR(40) NOT NULL,
  `secret` VARCHAR(120) NOT NULL COMMENT 'a hash; never the password itself',
  PRIMARY KEY (`id`), UNIQUE KEY `login` (`login`)
) ENGINE=InnoDB;

CREATE TABLE `@prefix_apiaries` (
  `id` INT UNSIGNED NOT NULL AUTO_INCREMENT,
  `name` VARCHAR(80) NOT NULL,
  `keeper` INT UNSIGNED NOT NULL,
  `note` TEXT,
  PRIMARY KEY (`id`),
  CONSTRAINT `@prefix_apiary_keeper` FOREIGN KEY (`keeper`) REFERENCES `@prefix_members` (`id`)
) ENGINE=InnoDB;

CREATE TABLE `@prefix_hives` (
  `id` INT UNSIGNED NOT NULL AUTO_INCREMENT,
  `apiary` INT UNSIGNED NOT NULL,
  `mark` VARCHAR(20) NOT NULL,
  `inspected` DATE DEFAULT NULL,
  PRIMARY KEY (`id`), KEY `apiary` (`apiary`),
  CONSTRAINT `@prefix_hive_apiary` FOREIGN KEY (`apiary`) REFERENCES `@prefix_apiaries` (`id`)
) ENGINE=InnoDB;

CREATE TABLE `@prefix_inspections` (
  `id` INT UNSIGNED NOT NULL AUTO_INCREMENT,
  `hive` INT UNSIGNED NOT NULL,
  `day` DATE NOT NULL,
  `frames` TINYINT UNSIGNED NOT NULL,
  `remark` VARCHAR(200) NOT NULL DEFAULT '',
  PRIMARY KEY (`id`), KEY `hive_day` (`hive`, `day`),
  CONSTRAINT `@prefix_inspection_hive` FOREIGN KEY (`hive`) REFERENCES `@prefix_hives` (`id`)
) ENGINE=InnoDB;

CREATE TABLE `@prefix_harvests` (
  `hive` INT UNSIGNED NOT NULL,
  `season` YEAR NOT NULL,
  `grams` INT UNSIGNED NOT NULL,
  PRIMARY KEY (`hive`, `season`)
) ENGINE=InnoDB;

CREATE VIEW `@prefix_yields` AS
  SELECT `season`, SUM(`grams`) / 1000 AS `kilograms` FROM `@prefix_harvests` GROUP BY `season`;

DELIMITER ;;
/*!50003 CREATE*/ /*!50017 DEFINER=`packager`@`build.example`*/ /*!50003 TRIGGER `@prefix_inspected`
  AFTER INSERT ON `@prefix_inspections` FOR EACH ROW
BEGIN
  -- the date of the latest inspection; "AFTER" so that a refused row leaves none
  UPDATE `@prefix_hives` SET `inspected` = NEW.`day`
   WHERE `id` = NEW.`hive` AND (`inspected` IS NULL OR `inspected` < NEW.`day`);
END */;;
DELIMITER ;
