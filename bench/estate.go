package main

import (
	"context"
	"database/sql"
	"fmt"
	"image/color"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

// measuredEstate is what the commands take on an estate of so many apps.
type measuredEstate struct {
	Server  string
	Apps    int
	Login   float64 // seconds of a bare login with one SELECT
	Seconds map[string]float64
	Memory  int64 // the peak of all commands, bytes
}

// estateCommands are measured in this order: the first one makes the apps.
var estateCommands = []struct {
	name      string
	arguments []string
	times     int
}{
	{"first provision", []string{"provision"}, 1}, {"second provision", []string{"provision"}, 3}, {"verify", []string{"verify"}, 3}, {"list", []string{"list"}, 3},
}

// host is what an estate's databases are on: a server, or several that are one.
type host struct {
	name    string
	product dbms.Product
	start   func(context.Context) ([]*throwaway.Server, error)
}

func alone(product dbms.Product, root string) host {
	return host{product.Title(), product, func(ctx context.Context) ([]*throwaway.Server, error) {
		server, err := throwaway.Start(ctx, throwaway.Options{Product: product, Root: root, Arguments: generous.arguments[product]})
		return []*throwaway.Server{server}, err
	}}
}

// cluster is three MariaDB servers joined by Galera, whose scripts are in extras.
func cluster(extras string) host {
	const nodes = 3
	return host{"MariaDB, three nodes", dbms.MariaDB, func(ctx context.Context) ([]*throwaway.Server, error) {
		return throwaway.StartCluster(ctx, nodes, filepath.Join(extras, "usr/bin"), throwaway.FreePort)
	}}
}

// mostApps bounds the estates of a product whose databases take long to make: the benchmark
// ends the same day.
var mostApps = map[dbms.Product]int{dbms.PostgreSQL: 300}

// measureEstates makes estates of small apps on a server of their own, and has the commands
// run on all of each.
func measureEstates(ctx context.Context, program, folder string, on host, counts []int) (all []measuredEstate, err error) {
	for _, apps := range counts {
		if most := mostApps[on.product]; most > 0 {
			apps = min(apps, most)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		m, err := measureEstate(ctx, program, folder, on, apps)
		if err != nil {
			return nil, err
		}
		fmt.Printf("%s, %4d apps: a login %.2f ms; per app first provision %.1f ms, second %.1f ms, verify %.1f ms, list %.1f ms; peak %d MiB\n",
			m.Server, apps, 1000*m.Login, m.perApp("first provision"), m.perApp("second provision"), m.perApp("verify"), m.perApp("list"), m.Memory>>20)
		all = append(all, m)
	}
	return all, nil
}

func (m measuredEstate) perApp(command string) float64 {
	return 1000 * m.Seconds[command] / float64(m.Apps)
}

func measureEstate(ctx context.Context, program, folder string, on host, apps int) (m measuredEstate, err error) {
	servers, err := on.start(ctx)
	if err != nil {
		return m, err
	}
	for _, server := range servers {
		defer server.Stop()
	}
	server, product := servers[0], on.product
	at := filepath.Join(folder, "estate")
	defer os.RemoveAll(at)
	if err := writeEstate(at, product, server, apps); err != nil {
		return m, err
	}
	m = measuredEstate{Server: on.name, Apps: apps, Seconds: map[string]float64{}}
	for _, c := range estateCommands {
		var seconds []float64
		for range c.times {
			one, err := timed(exec.CommandContext(ctx, program, append(c.arguments, "--quiet", "--estate", filepath.Join(at, "yellowfield.yaml"), "--state", filepath.Join(at, "state"))...))
			if err != nil {
				return m, fmt.Errorf("%s of %d apps: %w", c.name, apps, err)
			}
			seconds, m.Memory = append(seconds, one.seconds), max(m.Memory, one.memory)
		}
		m.Seconds[c.name] = median(seconds)
	}
	m.Login, err = bareLogin(ctx, server, product)
	return m, err
}

// writeEstate writes apps with a database, an account, a script and a settings file each.
func writeEstate(folder string, product dbms.Product, server *throwaway.Server, apps int) error {
	var estate strings.Builder
	fmt.Fprintf(&estate, "servers: {bench: {dbms: %s, socket: %q, admin: {user: %s}, seen_by_apps: {socket: %q}}}\napps:\n", product, server.Socket, server.Admin, server.Socket)
	host := "localhost"
	if product == dbms.PostgreSQL {
		host = filepath.Dir(server.Socket)
	}
	for i := range apps {
		name := fmt.Sprintf("app%04d", i)
		own := filepath.Join(folder, "www", name)
		if err := os.MkdirAll(own, 0o755); err != nil {
			return err
		}
		for file, content := range map[string]string{
			"config.php": fmt.Sprintf("<?php\n$host = '%s';\n$user = '';\n$password = '';\n$name = '';\n", host),
			"tables.sql": "CREATE TABLE hive (id INT PRIMARY KEY, name VARCHAR(40));\nINSERT INTO hive VALUES (1, 'north'), (2, 'south');\n",
		} {
			if err := os.WriteFile(filepath.Join(own, file), []byte(content), 0o600); err != nil {
				return err
			}
		}
		fmt.Fprintf(&estate, "  %s: {server: bench, folder: www/%[1]s, database: {name: %[1]s}, accounts: [{name: %[1]s_user}], import: [{file: tables.sql}], settings: [{file: config.php, values: {$host: '{host}', $user: '{user}', $password: '{password}', $name: '{database}'}}]}\n", name)
	}
	return os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), []byte(estate.String()), 0o600)
}

// bareLogin is the median time of a login over the socket with one SELECT.
func bareLogin(ctx context.Context, server *throwaway.Server, product dbms.Product) (float64, error) {
	const logins = 201
	var seconds []float64
	for range logins {
		began := time.Now()
		if err := loginOnce(ctx, server, product); err != nil {
			return 0, err
		}
		seconds = append(seconds, time.Since(began).Seconds())
	}
	return median(seconds), nil
}

func loginOnce(ctx context.Context, server *throwaway.Server, product dbms.Product) error {
	var one int
	if product == dbms.PostgreSQL {
		conn, err := pgx.Connect(ctx, fmt.Sprintf("host=%s user=%s dbname=postgres", filepath.Dir(server.Socket), server.Admin))
		if err != nil {
			return err
		}
		defer conn.Close(ctx)
		return conn.QueryRow(ctx, "SELECT 1").Scan(&one)
	}
	db, err := sql.Open("mysql", server.Admin+"@unix("+server.Socket+")/")
	if err != nil {
		return err
	}
	defer db.Close()
	return db.QueryRowContext(ctx, "SELECT 1").Scan(&one)
}

// writeEstateReport writes the table and the plot of time an app against their number.
func writeEstateReport(path string, all []measuredEstate) error {
	if len(all) == 0 {
		return nil
	}
	var b strings.Builder
	b.WriteString("# How fast an estate of many apps is\n\nWritten by `make bench`; nothing here is typed in by hand.\n\n")
	b.WriteString("Each app has a database, an account, a script with one table and two rows, and a settings file. The first `provision` makes all of that; the second finds everything as wanted; `verify` logs in as each application would. Times are those of the whole command, start and catalogue included, divided by the number of apps (medians of three, the first provision once); a login is one over the socket with one SELECT, the median of 201 in the same run. In brackets: in so many of such logins.\n\n")
	b.WriteString(measuredHere(1))
	picture := strings.TrimSuffix(path, ".md") + ".png"
	fmt.Fprintf(&b, "![Milliseconds an app](%s)\n\n", filepath.Base(picture))
	b.WriteString("| server | apps | a login | first provision | second provision | verify | list | peak memory |\n|---|---:|---:|---:|---:|---:|---:|---:|\n")
	for _, m := range all {
		cell := func(command string) string {
			return fmt.Sprintf("%.1f ms (%.0f)", m.perApp(command), m.perApp(command)/1000/m.Login)
		}
		fmt.Fprintf(&b, "| %s | %d | %.2f ms | %s | %s | %s | %.1f ms | %d MiB |\n", m.Server, m.Apps, 1000*m.Login,
			cell("first provision"), cell("second provision"), cell("verify"), m.perApp("list"), m.Memory>>20)
	}
	if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
		return err
	}
	return drawEstates(picture, all)
}

// drawEstates plots milliseconds an app against the number of apps.
func drawEstates(path string, all []measuredEstate) error {
	p := plot.New()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = "Milliseconds an app", "apps", "ms an app"
	var ticks plot.ConstantTicks
	for _, m := range all {
		ticks = append(ticks, plot.Tick{Value: float64(m.Apps), Label: strconv.Itoa(m.Apps)})
	}
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, ticks
	p.Y.Min = 0
	p.Legend.Top = true
	colours := []color.Color{color.RGBA{0xd9, 0xa4, 0x06, 0xff}, color.RGBA{0x4a, 0x6c, 0x8c, 0xff}, color.RGBA{0x6b, 0x8e, 0x4e, 0xff}, color.RGBA{0xa8, 0x4a, 0x32, 0xff}}
	type curve struct{ server, command string }
	servers := map[string]int{}
	lines := map[curve]plotter.XYs{}
	var order []curve
	for _, m := range all {
		if _, seen := servers[m.Server]; !seen {
			servers[m.Server] = len(servers)
		}
		for _, command := range []string{"second provision", "verify"} {
			name := curve{m.Server, command}
			if lines[name] == nil {
				order = append(order, name)
			}
			lines[name] = append(lines[name], plotter.XY{X: float64(m.Apps), Y: m.perApp(command)})
		}
	}
	for _, name := range order {
		line, points, err := plotter.NewLinePoints(lines[name])
		if err != nil {
			return err
		}
		line.Color, points.Color = colours[servers[name.server]%len(colours)], colours[servers[name.server]%len(colours)]
		line.Width = vg.Points(2)
		if name.command != "verify" {
			line.Dashes = []vg.Length{vg.Points(5), vg.Points(4)}
		}
		p.Add(line, points)
		p.Legend.Add(name.server+", "+name.command, line)
		for _, xy := range lines[name] {
			p.Y.Max = max(p.Y.Max, 1.25*xy.Y)
		}
	}
	return p.Save(vg.Points(860), vg.Points(420), path)
}
