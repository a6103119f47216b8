// Command bench measures imports against the servers' stock clients, and exports against
// their dump programs, and commands on estates of many apps, on private servers and dumps of
// made-up data that it writes itself, and checks that both leave the same behind.
//
//	go run -C bench . -size 1 -runs 3 -report ../docs/performance.md
//
// It must never touch a server it did not start.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

func main() {
	size := flag.Float64("size", 1, "factor on the size of the dumps")
	runs := flag.Int("runs", 3, "runs of each importer, in turn")
	only := flag.String("shapes", "", "part of the names of the shapes to measure; empty for all")
	products := flag.String("dbms", "mariadb,mysql,postgresql", "servers to measure on")
	root := flag.String("mysql-root", "/var/cache/yellowfield-tests/mysql-root", "folder of a system with a MySQL server")
	extras := flag.String("mariadb-extras", usualExtras, "folder with MariaDB's dump program")
	apps := flag.String("apps", "10,100,1000", "numbers of apps in the estates to measure; empty for none")
	names := flag.String("settings", "usual,generous", "settings of the servers to measure under")
	exports := flag.Bool("exports", true, "measure exports, too, under the usual settings")
	report := flag.String("report", "", "path of a Markdown report to write; a plot is written beside it")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	var counts []int
	for _, text := range strings.Split(*apps, ",") {
		if n, err := strconv.Atoi(text); err == nil {
			counts = append(counts, n)
		}
	}
	chosen := slices.DeleteFunc([]settings{usual, generous}, func(s settings) bool { return !slices.Contains(strings.Split(*names, ","), s.name) })
	if err := measure(ctx, *size, *runs, *only, chosen, *exports, strings.Split(*products, ","), *root, *extras, counts, *report); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// usualExtras is where scripts/setup unpacks MariaDB's dump program.
const usualExtras = "/var/cache/yellowfield-tests/mariadb-extras"

func measure(ctx context.Context, size float64, runs int, only string, with []settings, exports bool, products []string, root, extras string, counts []int, report string) error {
	folder, err := os.MkdirTemp("", "yellowfield-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	program, err := build(folder)
	if err != nil {
		return err
	}
	var results []result
	var estates []measuredEstate
	different := 0
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.MySQL, dbms.PostgreSQL} {
		if !slices.Contains(products, string(product)) {
			continue
		}
		at := ""
		if product == dbms.MySQL {
			if _, err := os.Stat(filepath.Join(root, "usr/sbin/mysqld")); err != nil {
				fmt.Println("NOT MEASURED: no MySQL server in " + root + "; run scripts/setup test")
				continue
			}
			at = root
		}
		for _, under := range with {
			w, err := openWorkshop(ctx, product, under, at, program, folder)
			if err != nil {
				return err
			}
			w.dumpProgram = findDumpProgram(extras)
			of, err := w.measureAll(ctx, size, runs, only, exports && under.name == usual.name)
			w.close()
			if err != nil {
				return err
			}
			for _, r := range of {
				different += len(r.Differences)
			}
			results = append(results, of...)
		}
		hosts := []host{alone(product, at)}
		if product == dbms.MariaDB && throwaway.GaleraLibrary() != "" {
			hosts = append(hosts, cluster(extras))
		}
		for _, on := range hosts {
			many, err := measureEstates(ctx, program, folder, on, counts)
			if err != nil {
				return err
			}
			estates = append(estates, many...)
		}
	}
	if report != "" {
		if err := writeReports(report, size, runs, results); err != nil {
			return err
		}
		if err := writeEstateReport(strings.TrimSuffix(report, ".md")+"-estate.md", estates); err != nil {
			return err
		}
	}
	if different > 0 {
		return fmt.Errorf("%d objects differ between ours and the stock programs'", different)
	}
	return nil
}

// measureAll imports each shape, and exports it if that is asked for.
func (w *workshop) measureAll(ctx context.Context, size float64, runs int, only string, exports bool) (results []result, err error) {
	say := func(format string, args ...any) { fmt.Printf(format+"\n", args...) }
	take := func(r result, err error) error {
		const shown = 5
		for _, d := range r.Differences[:min(shown, len(r.Differences))] {
			say("DIFFERENT: %s", d)
		}
		if err == nil {
			say("%s", line(r))
			results = append(results, r)
		}
		return err
	}
	for _, s := range shapesFor(w.product) {
		if s.dumped && w.product == dbms.MariaDB && w.dumpProgram == "" {
			say("NOT MEASURED: %s, as MariaDB's dump program is not there; run scripts/setup test", s.name)
			continue
		}
		for _, c := range contests(w.product) {
			if strings.Contains(s.name+c.name, only) {
				if err := take(w.run(ctx, s, c, size, runs, say)); err != nil {
					return nil, err
				}
			}
		}
	}
	if !exports {
		return results, nil
	}
	if w.product == dbms.MariaDB && w.dumpProgram == "" {
		say("NOT MEASURED: exports from MariaDB, whose dump program is not there; run scripts/setup test")
		return results, nil
	}
	for _, s := range shapesFor(w.product) {
		if strings.Contains("export of "+s.name, only) && !s.dumped {
			if err := take(w.runExports(ctx, s, size, runs, say)); err != nil {
				return nil, err
			}
		}
	}
	return results, nil
}

// build makes our program.
func build(folder string) (string, error) {
	program := filepath.Join(folder, "yellowfield")
	root, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "yellowfield").Output()
	if err != nil {
		return "", fmt.Errorf("where the program's module is: %w", err)
	}
	command := exec.Command("go", "build", "-o", program, "./cmd/yellowfield")
	command.Dir = strings.TrimSpace(string(root))
	command.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := command.CombinedOutput(); err != nil {
		return "", fmt.Errorf("building: %w\n%s", err, out)
	}
	return program, nil
}

func line(r result) string {
	const mega = 1 << 20
	name := r.Shape
	if r.Export {
		name = "export of " + name
	}
	text := fmt.Sprintf("%-18s %-8s %-28s %7.1f MiB  stock %7.2f s  ours %6.2f s  %5.1f x  %6.1f MiB/s  peak %4.0f MiB",
		r.Server, r.Settings, name, float64(r.Bytes)/mega, r.Stock.Median, r.Ours.Median, r.ratio(), float64(r.Bytes)/mega/r.Ours.Median, float64(r.Memory)/mega)
	if r.Limit > 0 {
		text += fmt.Sprintf("  limit %.2f s", r.Limit)
	}
	if !r.Export {
		text += fmt.Sprintf("  first pass %.1f %%", 100*r.FirstPass/r.Ours.Median)
	}
	return text
}
