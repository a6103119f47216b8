-- Smokerloan for MariaDB and MySQL. {prefix} is the table prefix of the settings.
CREATE TABLE {prefix}members (
  id INT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(80) NOT NULL
) ENGINE=InnoDB;
CREATE TABLE {prefix}tools (
  id INT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(80) NOT NULL
) ENGINE=InnoDB;
CREATE TABLE {prefix}loans (
  tool INT NOT NULL, member INT NOT NULL, since DATE NOT NULL,
  PRIMARY KEY (tool, since),
  FOREIGN KEY (tool) REFERENCES {prefix}tools (id),
  FOREIGN KEY (member) REFERENCES {prefix}members (id)
) ENGINE=InnoDB;
