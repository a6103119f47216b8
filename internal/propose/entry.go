package propose

import (
	"cmp"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/discover"
	"yellowfield/internal/discover/dumps"
	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
	"yellowfield/internal/settings"
)

// writer writes lines of YAML with their remarks.
type writer struct {
	strings.Builder
}

const (
	// remarkColumn is where the remarks after short lines begin.
	remarkColumn = 36
	// lineWidth is that of a terminal of 80 columns without the indentation
	// that the entry gets in the estate file.
	lineWidth = 76
)

// line writes a line with a remark after it, or above it where it would be too long.
func (w *writer) line(text, remark string) { w.lineAt(remarkColumn, text, remark) }

func (w *writer) lineAt(column int, text, remark string) {
	remark = oneLine(remark)
	column = max(column, utf8.RuneCountInString(text)+2)
	switch {
	case remark == "":
		w.WriteString(text)
	case column+2+utf8.RuneCountInString(remark) <= lineWidth:
		w.WriteString(text + strings.Repeat(" ", column-utf8.RuneCountInString(text)) + "# " + remark)
	default:
		said := strings.TrimLeft(text, " ")
		indent := text[:len(text)-len(said)]
		if comment, is := strings.CutPrefix(said, "# "); is && !strings.Contains(comment, "\"") {
			w.remark(indent, comment+": "+remark)
			return
		}
		w.remark(indent, remark)
		w.WriteString(text)
	}
	w.WriteByte('\n')
}

// row is a line with a remark.
type row struct{ text, remark string }

// rows writes lines with their remarks in one column.
func (w *writer) rows(rows []row) {
	const widest = 52
	column := remarkColumn
	for _, r := range rows {
		if width := utf8.RuneCountInString(r.text) + 2; width <= widest {
			column = max(column, width)
		}
	}
	for _, r := range rows {
		w.lineAt(column, r.text, r.remark)
	}
}

// remark writes a remark on lines of its own.
func (w *writer) remark(indent, text string) {
	line := indent + "#"
	for _, word := range strings.Fields(oneLine(text)) {
		if utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) > lineWidth && line != indent+"#" {
			w.WriteString(line + "\n")
			line = indent + "#"
		}
		line += " " + word
	}
	w.WriteString(line + "\n")
}

// oneLine keeps a remark on its line, whatever stood in a file.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 {
			return ' '
		}
		return r
	}, text)
}

// compose makes the entry from findings and answers.
func (p *Proposal) compose() {
	p.Missing = ""
	p.chooseServer()
	if p.options.Settings != "" {
		_ = p.preferSettings(p.options.Settings) // New has seen that it is there
	}
	p.elsewhere = p.phpGoesElsewhere()
	w := &writer{}
	p.meant = nil
	p.writeServer(w)
	w.line("folder: "+scalar(p.folder()), "")
	p.meant.add("folder", p.folder())
	p.writeDatabase(w)
	p.writePHP(w)
	p.writeImport(w)
	p.writeSettings(w)
	p.writeInstaller(w)
	p.Entry = w.String()
}

// scalar writes a value as YAML reads it.
func scalar(text string) string {
	if text == "" || text != oneLine(text) || strings.ContainsAny(text, "{}[],#&*!|>'\"%@`:\\=~<") || strings.TrimSpace(text) != text || strings.HasPrefix(text, "-") || strings.HasPrefix(text, "?") {
		return estate.Quoted(text)
	}
	return text
}

// folder is the application's folder as the estate file has it.
func (p *Proposal) folder() string { return p.fromEstate(p.Findings.Folder) }

// fromEstate is a path as the estate file has it: from its own folder on where it lies
// there.
func (p *Proposal) fromEstate(path string) string {
	from, err := filepath.Abs(filepath.Dir(p.options.Path))
	if err != nil {
		return path
	}
	relative, err := filepath.Rel(from, path)
	if err != nil || strings.HasPrefix(relative, "..") {
		return path
	}
	return relative
}

func (p *Proposal) writeServer(w *writer) {
	remark := ""
	if families := p.Findings.DBMS; len(families) > 0 {
		remark = "made for " + facts.Title(families[0].Name) + ": " + families[0].Reasons[0]
		for _, other := range families[1:] {
			remark += "; " + facts.Title(other.Name) + ": " + other.Reasons[0]
		}
	}
	if p.Server == "" {
		p.Missing = "no server is known that it could use"
		if len(p.Findings.DBMS) > 0 {
			p.Missing += ": it is made for " + facts.Title(p.Findings.DBMS[0].Name)
		}
		w.line("# server: NAME", p.Missing)
		return
	}
	if p.logsInElsewhere() {
		p.Missing = "its code logs in to " + facts.Title(p.Findings.OnlyFor) + " alone"
		if at := p.Findings.OnlyForAt; at != nil {
			p.Missing += ": " + at.String()
		}
	}
	w.line("server: "+scalar(p.Server), remark)
	p.meant.add("server", p.Server)
}

// logsInElsewhere reports whether the code logs in to the other kind of server alone.
func (p *Proposal) logsInElsewhere() bool {
	only := p.Findings.OnlyFor
	return only != "" && slices.ContainsFunc(p.servers, func(s server) bool { return s.name == p.Server && s.family() != only })
}

// writeDatabaseLine writes the database's name, and how the application wants it made if
// the server can do so.
func (p *Proposal) writeDatabaseLine(w *writer, name string) {
	meant := meanings{{"name", name}}
	text, remark := "name: "+name, "utf8mb4, if nothing else is said"
	if asked := p.Findings.Database; asked != nil {
		if lacks := p.lacksCollation(asked.Collation); lacks != "" {
			w.remark("", fmt.Sprintf("%s asks for %s, which %s does not have", asked.Place, asked.Collation, lacks))
		} else {
			remark = asked.Place.String() + " asks for it"
			text += ", charset: " + scalar(asked.Charset) + ", collation: " + scalar(asked.Collation)
			meant.add("charset", asked.Charset)
			meant.add("collation", asked.Collation)
		}
	}
	w.line("database: {"+text+"}", remark)
	p.meant.add("database", meant)
}

// lacksCollation names the product of the chosen server where it is known not to have a
// collation.
func (p *Proposal) lacksCollation(collation string) string {
	if p.options.Estate == nil || p.options.Estate.Servers[p.Server] == nil {
		return ""
	}
	if product := p.options.Estate.Servers[p.Server].DBMS; product.LacksCollation(collation) {
		return product.Title()
	}
	return ""
}

func (p *Proposal) writeDatabase(w *writer) {
	name := strings.ReplaceAll(p.App, "-", "_")
	p.writeDatabaseLine(w, name)
	for _, script := range p.Findings.Accounts() {
		account := script.Account
		var named []string
		for _, fact := range []struct{ what, is string }{{"the database ", account.Database}, {"the account ", account.User}, {"", account.Charset}, {"", account.Collation}} {
			if fact.is != "" {
				named = append(named, fact.what+fact.is)
			}
		}
		w.line("# "+oneLine(script.File+" names "+strings.Join(named, ", ")), "")
	}
	const longest = 32 // of an account's name, the shortest limit of a server
	account := name[:min(len(name), longest-len("_app"))] + "_app"
	w.line("accounts:", "")
	w.line("  - name: "+account, "with the rights called structure")
	meant := meanings{{"name", account}}
	if p.elsewhere && !p.writesSocket() {
		hosts := []string{"localhost", "127.0.0.1"}
		w.line("    client_hosts: ["+strings.Join(hosts, ", ")+"]", "PHP takes localhost for another socket than the server's, so it comes over TCP")
		meant.add("client_hosts", hosts)
	}
	p.meant.add("accounts", []any{meant})
	w.remark("    ", "rights: {installing: structure, running: rows} if it makes no tables while it runs")
	if p.Findings.Prefix != "" {
		w.line("prefix: "+scalar(p.Findings.Prefix), "")
		p.meant.add("prefix", p.Findings.Prefix)
	}
}

// extensionName is what a PHP extension can be called.
var extensionName = regexp.MustCompile(`^[a-z0-9_]+$`)

func (p *Proposal) writePHP(w *writer) {
	var needed, optional []string
	for _, e := range p.Findings.Extensions {
		if !extensionName.MatchString(e.Name) {
			continue // a composer file says what it likes
		}
		if e.Optional {
			optional = append(optional, e.Name)
		} else {
			needed = append(needed, e.Name)
		}
	}
	if len(needed) > 0 {
		text, meant := "extensions: ["+strings.Join(needed, ", ")+"]", meanings{{"extensions", needed}}
		if configuration := p.phpConfiguration(); configuration != "" { // an app's own php replaces all of the default
			text = "configuration: " + scalar(p.fromEstate(configuration)) + ", " + text
			meant.add("configuration", p.fromEstate(configuration))
		}
		w.line("php: {"+text+"}", "")
		p.meant.add("php", meant)
	}
	if len(optional) > 0 {
		w.line("# also used, where they are there: "+strings.Join(optional, ", "), "")
	}
}

func (p *Proposal) writeImport(w *writer) {
	mark := ""
	if p.leavesTables() {
		mark = "# "
	}
	var rows []row
	var meant []any
	begin := func() {
		if len(rows) == 0 {
			rows = append(rows, row{mark + "import:", ""})
		}
	}
	sure, offered := 0, false
	for _, s := range p.Findings.Import() {
		if s.Doubt == "" {
			sure++
		}
	}
	for i, s := range p.Findings.Import() {
		if mark != "" && i == shownScripts {
			rows = append(rows, row{"# and " + figures.Counted(len(p.Findings.Import())-i, "further script", "further scripts"), ""})
			break
		}
		text, fact := scriptEntry(s)
		remark := cmp.Or(s.Doubt, contents(s))
		switch {
		case s.Doubt != "" && mark == "" && sure > 0:
			begin()
			rows = append(rows, row{"  # " + oneLine(text), remark})
		case s.Doubt != "":
			if mark == "" && !offered {
				rows = append(rows, row{"# import:", ""})
			}
			offered = true
			rows = append(rows, row{"#   " + oneLine(text), remark})
		default:
			begin()
			rows = append(rows, row{mark + "  " + text, remark})
			meant = append(meant, fact)
		}
	}
	if mark == "" && len(meant) > 0 {
		p.meant.add("import", meant)
	}
	left := 0
	for _, s := range p.Findings.Scripts {
		if s.LeftOut == "" || s.Account != nil {
			continue
		}
		if left++; left <= shownScripts {
			rows = append(rows, row{"# not imported: " + oneLine(s.File), s.LeftOut})
		}
	}
	w.rows(rows)
	for i, lacking := range p.Findings.Lacking {
		if i == shownScripts {
			w.line("# and "+figures.Counted(len(p.Findings.Lacking)-i, "further table", "further tables")+" that no script here makes", "")
			break
		}
		w.line("# no script here makes the table "+oneLine(lacking.Table), oneLine(lacking.Place.String())+" uses it")
	}
	if left > shownScripts {
		w.line("# not imported: "+figures.Counted(left-shownScripts, "further script", "further scripts"), "")
	}
}

// scriptEntry is a script under import, as text and as what the text has to mean.
func scriptEntry(s *dumps.Script) (text string, fact meanings) {
	fact = meanings{{"file", s.File}}
	if s.PrefixToken == "" && !s.Retarget && s.Encoding == "" {
		return "- " + scalar(s.File), fact
	}
	text = "- {file: " + scalar(s.File)
	if s.PrefixToken != "" {
		text += ", prefix_token: " + estate.Quoted(s.PrefixToken)
		fact.add("prefix_token", s.PrefixToken)
	}
	if s.Retarget {
		text += ", retarget: true"
		fact.add("retarget", true)
	}
	if s.Encoding != "" {
		text += ", encoding: " + s.Encoding
		fact.add("encoding", s.Encoding)
	}
	return text + "}", fact
}

// shownScripts is how many are named of those that are not imported.
const shownScripts = 6

// leavesTables reports whether the installer makes the tables although there is
// SQL: because a person said so, or because there are so many scripts that only
// it knows what each is for, and it writes the settings, too. Settings that are there
// already would make it refuse.
func (p *Proposal) leavesTables() bool {
	chosen := p.chosen()
	writes := chosen == nil || chosen.InstallerMakes
	return p.answer(askTables) == 1 || len(p.Findings.Import()) > dumps.MostScripts && len(p.Findings.Installer.Files) > 0 && writes || p.installerHasScripts()
}

// installerHasScripts reports whether the installer, which has to write the
// settings, will run the SQL: that of its own folder, or what code has the name of.
func (p *Proposal) installerHasScripts() bool {
	chosen := p.chosen()
	return chosen != nil && chosen.InstallerMakes && slices.ContainsFunc(p.Findings.Import(), func(s *dumps.Script) bool {
		return s.Named || slices.ContainsFunc(p.Findings.Installer.Files, func(folder string) bool { return strings.HasPrefix(s.File, folder) })
	})
}

// contents says what a script holds.
func contents(s *dumps.Script) string {
	var parts []string
	if s.Tables > 0 {
		parts = append(parts, figures.Counted(s.Tables, "table", "tables"))
	}
	if s.Rows > 0 {
		parts = append(parts, figures.Counted(s.Rows, "statement with rows", "statements with rows"))
	}
	if s.Encoding != "" {
		parts = append(parts, "no UTF-8: "+s.Encoding+" is the likeliest")
	}
	return strings.Join(parts, ", ")
}

// chosen is the settings file to write, nil when none was found.
func (p *Proposal) chosen() *discover.Candidate {
	if len(p.Findings.Settings) == 0 {
		return nil
	}
	return p.Findings.Settings[p.answer(askSettings)]
}

func (p *Proposal) writeSettings(w *writer) {
	chosen := p.chosen()
	for _, place := range p.Findings.LogsInWithLiterals {
		if chosen == nil || !chosen.HasLoginOf(place.File) {
			w.remark("", fmt.Sprintf("%s:%d logs in with values that stand in the code: name it under settings if it is in use.", place.File, place.Line))
		}
	}
	for _, outside := range p.Findings.Outside {
		w.remark("", fmt.Sprintf("%s reads %s, outside of the folder: it is written where it is named under settings.", outside.Place, outside.File))
	}
	if chosen == nil && len(p.Findings.LogsInByEnvironment) > 0 {
		w.remark("", fmt.Sprintf("%s logs in with variables of the environment, and no file here sets them: its web server or the pool of PHP's process manager has to.", p.Findings.LogsInByEnvironment[0]))
		return
	}
	if chosen == nil {
		w.remark("", "No settings file with a login was found: its installer may make one, or its code may hold the login.")
		return
	}
	if chosen.NamesOther() {
		w.remark("", "Its settings name another kind of store now: a database server is one choice of several.")
	}
	w.line("settings:", "")
	w.remark("  ", fmt.Sprintf("score %g: %s", chosen.Score, strings.Join(chosen.Reasons, "; ")))
	meant, values, rows := p.writeFile(w, chosen)
	files := []any{meant}
	why := "written with the same text"
	if !chosen.InstallerMakes {
		why = "logs in with the same values"
		for i := range rows {
			rows[i].remark = "" // the lines are others
		}
	}
	for _, alike := range chosen.Alike {
		w.line("  - file: "+scalar(alike), why)
		w.line("    values:", "")
		w.rows(rows)
		files = append(files, meanings{{"file", alike}, {"values", values}})
	}
	for _, beside := range chosen.Beside {
		why := "logs in with the same values, too"
		if beside.IsRest() {
			why = "the code merges it with the file above, which has no user and no password"
		}
		w.remark("  ", why)
		meant, _, _ := p.writeFile(w, beside)
		files = append(files, meant)
	}
	p.meant.add("settings", files)
	if len(values) == 0 {
		p.Missing = "none of its settings can be written without a look"
	}
	for _, c := range chosen.WithBeside() {
		for _, v := range c.Values {
			if v.Wrong && !v.Commented {
				p.Missing = v.Address + " names another server: " + v.Doubt
			}
		}
	}
	for _, other := range p.Findings.Settings {
		if other != chosen {
			if other.File == chosen.File {
				w.remark("  ", fmt.Sprintf("%s is for another server.", other.Seen))
				continue
			}
			w.remark("  ", fmt.Sprintf("Less likely: %s, score %g; --settings takes it instead.", other.File, other.Score))
		}
	}
}

// writeFile writes the entry of one settings file, and gives what it means.
func (p *Proposal) writeFile(w *writer, of *discover.Candidate) (meant, values meanings, rows []row) {
	meant, values = meanings{{"file", of.File}}, meanings{}
	w.line("  - file: "+scalar(of.File), "")
	if of.Template != "" {
		w.line("    template: "+scalar(of.Template), "")
		meant.add("template", of.Template)
	}
	if of.Add {
		meant.add("add", true)
		w.line("    add: true", of.Seen+" has the keys")
	}
	if slices.ContainsFunc(of.Values, func(v discover.Value) bool { return v.Replaces }) {
		meant.add("replace_expression", true)
		w.line("    replace_expression: true", "what names another kind of store is evaluated")
	}
	w.line("    values:", "")
	for _, v := range p.forServer(of.Values) {
		text := estate.PlainKey(v.Address) + ": " + estate.Quoted(v.Text)
		if v.Doubt != "" {
			rows = append(rows, row{"      # " + oneLine(text), v.Doubt})
			continue
		}
		values.add(v.Address, v.Text)
		rows = append(rows, row{"      " + text, remarkOn(v)})
		if len(v.Others) > 0 {
			rows = append(rows, row{"      # or " + oneLine(strings.Join(v.Others, ", ")), ""})
		}
	}
	w.rows(rows)
	meant.add("values", values)
	return meant, values, rows
}

// writesSocket reports whether the settings have a place for the server's socket.
func (p *Proposal) writesSocket() bool {
	chosen := p.chosen()
	return chosen != nil && slices.ContainsFunc(p.forServer(chosen.Values), func(v discover.Value) bool { return v.Role == settings.Socket && v.Doubt == "" })
}

// forServer are the values as the chosen server needs them: its port is written where it
// is not the usual one, or not known to be, and not mentioned where it is and the file has
// no place for it.
func (p *Proposal) forServer(values []discover.Value) []discover.Value {
	unusual := p.elsewhere
	if p.options.Estate != nil && p.options.Estate.Servers[p.Server] != nil {
		server := p.options.Estate.Servers[p.Server]
		unusual = unusual || server.PortForApps() != server.DBMS.DefaultPort()
	}
	var fitting []discover.Value
	for _, v := range values {
		switch {
		case v.Role == settings.Port && unusual && v.Doubt != "" && !v.Expression:
			v.Doubt = ""
		case v.Role == settings.Socket && v.Doubt != "" && !v.Expression && !v.Absent && p.elsewhere:
			v.Doubt = ""
		case v.Absent && v.Doubt != "":
			continue
		}
		fitting = append(fitting, v)
	}
	return fitting
}

// remarkOn says where a value was found and what stands there now.
func remarkOn(v discover.Value) string {
	if v.Found != "" {
		return v.Found
	}
	if v.Line == 0 {
		return ""
	}
	remark := fmt.Sprintf("line %d", v.Line)
	switch {
	case v.Absent:
		remark += ", added"
	case v.Commented:
		remark += ", in a comment, which stays"
	case v.Was == "":
		remark += ", empty now"
	case v.Role == settings.Password:
		remark += ", was " + v.Was
	default:
		remark += ", was " + oneLine(v.Was)
	}
	return remark
}

func (p *Proposal) writeInstaller(w *writer) {
	chosen := p.chosen()
	tables := p.Findings.Installer.Tables || p.leavesTables()
	if tables || chosen != nil && chosen.InstallerMakes {
		var parts []string
		var meant meanings
		remark := ""
		if tables {
			parts = append(parts, "tables: true")
			meant.add("tables", true)
			remark = "there is no SQL to import"
			if in := p.Findings.Installer.TablesIn; len(in) > 0 {
				remark += fmt.Sprintf("; %s:%d makes tables", in[0].File, in[0].Line)
			}
			switch {
			case p.answer(askTables) == 1:
				remark = "as you said"
			case p.installerHasScripts():
				remark = "its installer writes the settings, and has the SQL"
			case p.leavesTables():
				remark = "its installer knows what all the scripts are for"
			}
		}
		if chosen != nil && chosen.InstallerMakes {
			written := append([]string{chosen.File}, chosen.Alike...)
			shown := make([]string, len(written))
			for i, file := range written {
				shown[i] = scalar(file)
			}
			parts = append(parts, "settings: ["+strings.Join(shown, ", ")+"]")
			meant.add("settings", written)
		}
		p.meant.add("installer", meant)
		w.line("installer: {"+strings.Join(parts, ", ")+"}", remark)
	}
	if files := p.Findings.Installer.Files; len(files) > 0 {
		shown, meant := make([]string, 0, len(files)), []string{}
		for _, file := range files {
			if chosen == nil || file != chosen.File {
				shown, meant = append(shown, scalar(file)), append(meant, file)
			}
		}
		p.meant.add("installer_files", meant)
		w.line("installer_files: ["+strings.Join(shown, ", ")+"]", "to be removed when its installation is done")
	}
	for _, skipped := range p.Findings.Skipped {
		name, why, _ := strings.Cut(skipped, ": ")
		if !strings.HasSuffix(name, "/") || why == tree.ForUpgrades {
			w.line("# not looked at: "+oneLine(name), why)
		}
	}
}
