// Package demo holds the scenario of the Meadowgate Beekeepers' Co-operative
// and plays it on a private throwaway server: the real commands, as a user
// would type them, with their real output.
//
// Everything in it is made up. The package drives the program from outside and
// must never reach around it, but for what the scenario needs another person
// for: someone who types into an installer, or breaks something by hand.
package demo

import (
	"bytes"
	"compress/gzip"
	"embed"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"yellowfield/internal/throwaway"
)

//go:embed all:scenario
var scenario embed.FS

// Unpack writes the scenario's files into folder, with the servers' sockets and
// administrators put in; byre is nil where there is no such server.
func Unpack(folder string, barn, byre *throwaway.Server) error {
	words := []string{"@SOCKET@", barn.Socket, "@ADMIN@", barn.Admin}
	if byre == nil {
		words = append(words, "include: [byre.yaml]", "# include: [byre.yaml]   no PostgreSQL is installed")
	} else {
		words = append(words, "@BYRE@", byre.Socket, "@BYREADMIN@", byre.Admin)
	}
	fill := strings.NewReplacer(words...)
	err := fs.WalkDir(scenario, "scenario", func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(folder, filepath.FromSlash(strings.TrimPrefix(path, "scenario")))
		if entry.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		if byre == nil && strings.Contains(path, "pgsql.ini") { // PHP would miss the extension
			return nil
		}
		content, err := scenario.ReadFile(path)
		if err != nil {
			return err
		}
		return os.WriteFile(target, []byte(fill.Replace(string(content))), 0o644)
	})
	if err != nil {
		return fmt.Errorf("unpacking the scenario: %w", err)
	}
	var packed bytes.Buffer
	zip := gzip.NewWriter(&packed)
	if err := writeSeasons(zip); err != nil {
		return err
	}
	if err := zip.Close(); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, "www/combledger/sql/seasons.sql.gz"), packed.Bytes(), 0o644); err != nil {
		return err
	}
	for path, content := range map[string][]byte{
		"www/broodgauge/sql/readings.sql": readings(), "www/nectarpost/db/nectarpost.sql": newsletter(), "www/bloomchart/db/bloomchart.sql": plants(),
	} {
		target := filepath.Join(folder, path)
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(target, content, 0o644); err != nil {
			return err
		}
	}
	return nil
}

const (
	gaugeSensors  = 60
	gaugeReadings = 90000
)

// readings are a year of what the sensors measured, a row a statement.
func readings() []byte {
	random := rand.New(rand.NewPCG(7, 20))
	out := &bytes.Buffer{}
	out.WriteString("-- Broodgauge, the readings of the last year.\nSET NAMES utf8mb4;\n")
	for i := range gaugeSensors {
		fmt.Fprintf(out, "INSERT INTO sensors (code, hive, placed) VALUES ('%c%d', 'H-%03d', '2025-04-%02d');\n", "aA"[i%2], i/2, 1+i, 1+i%28)
	}
	first := time.Date(2025, 5, 1, 0, 0, 0, 0, time.UTC)
	for i := range gaugeReadings {
		sensor := random.IntN(gaugeSensors)
		remark := ""
		if random.IntN(50) == 0 {
			remark = []string{"Brutnest verlegt", "пчёлы летают", "分蜂しそう", "🐝🐝 at the entrance", "it''s damp"}[random.IntN(5)]
		}
		fmt.Fprintf(out, "INSERT INTO readings (sensor, taken, raw, remark) VALUES ('%c%d', '%s', %d, '%s');\n", "aA"[sensor%2], sensor/2,
			first.Add(time.Duration(i)*5*time.Minute).Format(time.DateTime), 560+random.IntN(90), remark)
	}
	return out.Bytes()
}

const (
	seasonApiaries    = 12
	seasonHives       = 240
	seasonInspections = 24000
)

// writeSeasons writes a seed as an application would ship it: some seasons of
// inspections, one row a statement, with accents, other scripts and emoji. The
// generator is seeded, so that every demo has the same rows.
func writeSeasons(w io.Writer) error {
	random := rand.New(rand.NewPCG(5, 20))
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	out := &strings.Builder{}
	out.WriteString("-- Combledger, the seasons so far.\n/*!40101 SET NAMES utf8mb4 */;\n")
	out.WriteString("INSERT INTO `@prefix_members` (`id`, `name`, `login`, `secret`) VALUES\n" +
		"(1, 'Mabel', 'mabel', '-'), (2, 'Zoë', 'zoe', '-'), (3, 'Łukasz', 'lukasz', '-'), (4, 'Пётр', 'petr', '-');\n")
	for i := 1; i <= seasonApiaries; i++ {
		fmt.Fprintf(out, "INSERT INTO `@prefix_apiaries` (`id`, `name`, `keeper`, `note`) VALUES (%d, '%s', %d, '%s');\n", i,
			[]string{"Rape field", "Obstgarten am Bächle", "Old mill", "Липовая аллея", "Heather top", "Ruisseau d''Été"}[(i-1)%6]+
				strings.Repeat(" II", (i-1)/6), 1+random.IntN(4), pick("by the gate; mind the dog", "蜂場", "sunny 🌞", ""))
	}
	for i := 1; i <= seasonHives; i++ {
		fmt.Fprintf(out, "INSERT INTO `@prefix_hives` (`id`, `apiary`, `mark`) VALUES (%d, %d, 'H-%03d');\n", i, 1+(i-1)%seasonApiaries, i)
	}
	first := time.Date(2023, 4, 1, 0, 0, 0, 0, time.UTC)
	for i := range seasonInspections {
		day := first.AddDate(0, 0, i*1000/seasonInspections)
		fmt.Fprintf(out, "INSERT INTO `@prefix_inspections` (`hive`, `day`, `frames`, `remark`) VALUES (%d, '%s', %d, '%s');\n",
			1+random.IntN(seasonHives), day.Format(time.DateOnly), 4+random.IntN(8),
			pick("", "", "queen seen", "calm; \\'good\\' brood", "Königin gezeichnet", "мало корма", "新しい女王", "swarm cells 🐝", "fed 50% syrup"))
	}
	out.WriteString("INSERT INTO `@prefix_harvests` (`hive`, `season`, `grams`) VALUES\n")
	for i := 1; i <= seasonHives; i++ {
		end := ","
		if i == seasonHives {
			end = ";"
		}
		fmt.Fprintf(out, "(%d, 2025, %d)%s\n", i, 8000+random.IntN(20000), end)
	}
	_, err := io.WriteString(w, out.String())
	return err
}
