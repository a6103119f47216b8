package main

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"

	"yellowfield/internal/dbms"
)

// shape is one kind of dump, written with made-up data that is the same each
// time.
type shape struct {
	name  string
	about string
	write func(w io.Writer, size float64)
	// dumped says that what is written is imported first, and that the script is what the
	// server's own dump program then makes of it.
	dumped bool
	// statements says that it is about statements, and not about rows, whose loading would
	// be its limit.
	statements bool
}

// shapes are the kinds of dumps that applications and administrators have.
var shapes = []shape{
	{name: "single rows", about: "one table, an INSERT a row, as small seeds have them", write: singleRows},
	{name: "wide schema", about: "170 tables with foreign keys and triggers, an INSERT a row", write: wideSchema},
	{name: "extended", about: "four indexed tables in INSERTs of about 1 MB, as dump programs write them", write: extended},
	{name: "keys at the end", about: "tables first, rows in INSERTs of 50 kB, keys in ALTER TABLE at the end", write: keysBehind},
	{name: "dumped", about: "the wide schema and the four tables, a third as large, as the server's own dump program writes them", write: wideAndExtended, dumped: true},
	{name: "by hand", about: "a seed by hand: functions, ON DUPLICATE KEY, INSERT ... SELECT, UPDATE", write: byHand, statements: true},
}

// shapesFor are those in a product's own words.
func shapesFor(product dbms.Product) []shape {
	if product == dbms.PostgreSQL {
		return postgresShapes
	}
	return shapes
}

type dump struct {
	*bufio.Writer
	random *rand.Rand
}

func newDump(w io.Writer) *dump {
	const seed = 20260501
	return &dump{Writer: bufio.NewWriterSize(w, 1<<20), random: rand.New(rand.NewPCG(seed, seed))}
}

func (d *dump) say(format string, args ...any) { fmt.Fprintf(d, format, args...) }

var words = strings.Fields("Honig Brood bühne Wabe slope clover смола lime-blossom skep smoker drone queen nectar Пчела 蜂 comb frame super hive mill swarm O'Dell pollen heather waxé borage apiary Linde")

func (d *dump) text(n int) string {
	var b strings.Builder
	for range n {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(words[d.random.IntN(len(words))])
	}
	return strings.ReplaceAll(b.String(), "'", `\'`)
}

func (d *dump) date() string {
	return fmt.Sprintf("20%02d-%02d-%02d %02d:%02d:%02d", 10+d.random.IntN(16), 1+d.random.IntN(12), 1+d.random.IntN(28), d.random.IntN(24), d.random.IntN(60), d.random.IntN(60))
}

func singleRows(w io.Writer, size float64) {
	d := newDump(w)
	defer d.Flush()
	d.say("CREATE TABLE weighings (id INT NOT NULL AUTO_INCREMENT, hive INT NOT NULL, taken DATETIME NOT NULL, kilograms DECIMAL(6,2), remark VARCHAR(200), PRIMARY KEY (id), KEY hive (hive)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n")
	for i := range int(20000 * size) {
		d.say("INSERT INTO `weighings` (`id`, `hive`, `taken`, `kilograms`, `remark`) VALUES (%d, %d, '%s', %d.%02d, '%s');\n",
			i+1, d.random.IntN(400), d.date(), d.random.IntN(80), d.random.IntN(100), d.text(4))
	}
}

func wideSchema(w io.Writer, size float64) {
	d := newDump(w)
	defer d.Flush()
	const tables = 170
	for t := range tables {
		d.say("CREATE TABLE `area_%03d` (\n  `id` int NOT NULL AUTO_INCREMENT,\n  `parent_id` int DEFAULT NULL,\n  `name` varchar(190) NOT NULL DEFAULT '',\n  `state` tinyint NOT NULL DEFAULT 1,\n", t)
		for c := range 8 {
			d.say("  `field_%d` varchar(255) DEFAULT NULL,\n", c)
		}
		d.say("  `made` datetime NOT NULL,\n  `body` text,\n  PRIMARY KEY (`id`),\n  UNIQUE KEY `name_state` (`name`,`state`,`id`),\n  KEY `parent` (`parent_id`),\n  KEY `made` (`made`)")
		if t%3 == 1 {
			d.say(",\n  CONSTRAINT `fk_%03d` FOREIGN KEY (`parent_id`) REFERENCES `area_%03d` (`id`)", t, t-1)
		}
		d.say("\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci;\n\n")
	}
	rows := int(130000 * size / tables)
	for t := range tables {
		for i := range rows {
			parent := "NULL"
			if t%3 == 1 && i%2 == 0 {
				parent = fmt.Sprint(d.random.IntN(rows) + 1)
			}
			d.say("INSERT INTO `area_%03d` (`id`,`parent_id`,`name`,`state`,`field_0`,`field_1`,`field_2`,`field_3`,`field_4`,`field_5`,`field_6`,`field_7`,`made`,`body`) VALUES (%d,%s,'%s %d',%d,'%s','%s',NULL,'%s',NULL,'','%d',NULL,'%s','%s');\n",
				t, i+1, parent, d.text(2), i, i%3, d.text(2), d.text(1), d.text(3), i, d.date(), d.text(6))
		}
	}
	for t := 0; t < tables; t += 10 {
		d.say("DELIMITER ;;\nCREATE TRIGGER `area_%03d_touch` BEFORE UPDATE ON `area_%03d` FOR EACH ROW BEGIN SET NEW.state = OLD.state + 1; END;;\nDELIMITER ;\n", t, t)
	}
}

// extended writes what the servers' dump programs write.
func extended(w io.Writer, size float64) {
	d := newDump(w)
	defer d.Flush()
	d.say("/*!40101 SET @OLD_CHARACTER_SET_CLIENT=@@CHARACTER_SET_CLIENT */;\n/*!40101 SET NAMES utf8mb4 */;\n/*!40014 SET @OLD_UNIQUE_CHECKS=@@UNIQUE_CHECKS, UNIQUE_CHECKS=0 */;\n/*!40014 SET @OLD_FOREIGN_KEY_CHECKS=@@FOREIGN_KEY_CHECKS, FOREIGN_KEY_CHECKS=0 */;\n/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO' */;\n")
	const tables, packet = 4, 1 << 20
	for t := range tables {
		name := fmt.Sprintf("readings_%d", t)
		d.say("DROP TABLE IF EXISTS `%s`;\n/*!40101 SET @saved_cs_client     = @@character_set_client */;\n/*!40101 SET character_set_client = utf8mb4 */;\nCREATE TABLE `%[1]s` (\n  `id` int(11) NOT NULL AUTO_INCREMENT,\n  `hive` int(11) NOT NULL,\n  `sensor` varchar(40) NOT NULL,\n  `taken` datetime NOT NULL,\n  `value` double DEFAULT NULL,\n  `note` varchar(255) DEFAULT NULL,\n  PRIMARY KEY (`id`),\n  KEY `hive_taken` (`hive`,`taken`),\n  KEY `sensor` (`sensor`,`value`),\n  KEY `note` (`note`(40))\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci;\n/*!40101 SET character_set_client = @saved_cs_client */;\n\nLOCK TABLES `%[1]s` WRITE;\n/*!40000 ALTER TABLE `%[1]s` DISABLE KEYS */;\n", name)
		id := 0
		for written := 0; written < int(150*size*(1<<20))/tables; {
			line := 0
			n, _ := fmt.Fprintf(d, "INSERT INTO `%s` VALUES ", name)
			line += n
			for first := true; line < packet; first = false {
				if !first {
					d.say(",")
				}
				id++
				n, _ := fmt.Fprintf(d, "(%d,%d,'%s-%04d','%s',%g,'%s')", id, d.random.IntN(5000), words[d.random.IntN(10)], d.random.IntN(3000), d.date(), float64(d.random.IntN(100000))/100, d.text(5))
				line += n + 1
			}
			d.say(";\n")
			written += line
		}
		d.say("/*!40000 ALTER TABLE `%s` ENABLE KEYS */;\nUNLOCK TABLES;\n\n", name)
	}
	d.say("/*!40101 SET SQL_MODE=@OLD_SQL_MODE */;\n/*!40014 SET FOREIGN_KEY_CHECKS=@OLD_FOREIGN_KEY_CHECKS */;\n/*!40014 SET UNIQUE_CHECKS=@OLD_UNIQUE_CHECKS */;\n/*!40101 SET CHARACTER_SET_CLIENT=@OLD_CHARACTER_SET_CLIENT */;\n")
}

// wideAndExtended is what is loaded, and dumped again.
func wideAndExtended(w io.Writer, size float64) {
	const third = 3
	wideSchema(w, size/third)
	extended(w, size/third)
}

// keysBehind writes what administration pages export.
func keysBehind(w io.Writer, size float64) {
	d := newDump(w)
	defer d.Flush()
	d.say("SET SQL_MODE = \"NO_AUTO_VALUE_ON_ZERO\";\nSTART TRANSACTION;\nSET time_zone = \"+00:00\";\n")
	const tables, packet = 6, 50 << 10
	for t := range tables {
		d.say("CREATE TABLE `page_%d` (\n  `id` int NOT NULL,\n  `author` int NOT NULL,\n  `title` varchar(200) NOT NULL,\n  `made` datetime NOT NULL,\n  `body` mediumtext NOT NULL\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci;\n\n", t)
		id := 0
		for written := 0; written < int(30*size*(1<<20))/tables; {
			line, _ := fmt.Fprintf(d, "INSERT INTO `page_%d` (`id`, `author`, `title`, `made`, `body`) VALUES\n", t)
			for first := true; line < packet; first = false {
				if !first {
					d.say(",\n")
				}
				id++
				n, _ := fmt.Fprintf(d, "(%d, %d, '%s', '%s', '%s\\r\\n<p>%s</p>')", id, d.random.IntN(90), d.text(4), d.date(), d.text(20), d.text(30))
				line += n
			}
			d.say(";\n\n")
			written += line
		}
	}
	for t := range tables {
		d.say("ALTER TABLE `page_%d`\n  ADD PRIMARY KEY (`id`),\n  ADD KEY `author` (`author`);\nALTER TABLE `page_%[1]d`\n  ADD KEY `title` (`title`(100));\nCREATE INDEX made ON `page_%[1]d` (made);\n", t)
	}
	for t := range tables {
		d.say("ALTER TABLE `page_%d`\n  MODIFY `id` int NOT NULL AUTO_INCREMENT;\n", t)
	}
	d.say("COMMIT;\n")
}

func byHand(w io.Writer, size float64) {
	d := newDump(w)
	defer d.Flush()
	d.say("CREATE TABLE members (id INT PRIMARY KEY AUTO_INCREMENT, name VARCHAR(100) NOT NULL, joined DATETIME, UNIQUE KEY (name));\nCREATE TABLE tasks (id INT PRIMARY KEY AUTO_INCREMENT, member INT NOT NULL, what VARCHAR(200), FOREIGN KEY (member) REFERENCES members (id));\n")
	for i := range int(1500 * size) {
		d.say("INSERT INTO members (name, joined) VALUES ('%s %d', '%s');\n", d.text(2), i, d.date())
		d.say("INSERT INTO tasks (member, what) VALUES (%d, '%s'), (%[1]d, UPPER('%s'));\n", i+1, d.text(3), d.text(1))
		if i%10 == 0 {
			d.say("INSERT INTO members (id, name) VALUES (%d, 'twice') ON DUPLICATE KEY UPDATE joined = joined + INTERVAL 1 DAY;\n", i+1)
		}
		if i%50 == 0 {
			d.say("UPDATE tasks SET what = CONCAT(what, '!') WHERE member = %d;\nINSERT INTO tasks (member, what) SELECT id, name FROM members WHERE id = %[1]d;\n", i+1)
		}
	}
	d.say("CREATE VIEW busy AS SELECT m.name, COUNT(*) AS tasks FROM members m JOIN tasks t ON t.member = m.id GROUP BY m.name;\n")
}
