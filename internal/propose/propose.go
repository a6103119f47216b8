// Package propose makes the entry of an application for the estate file out of
// what a look through its folder found: what is certain as values, what is not
// as comments with the reason, and what only a person can decide as questions.
//
// It must never know of terminals, and it changes nothing but the estate file,
// when it is told to.
package propose

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/discover"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

// Options say what to propose.
type Options struct {
	Folder string
	// Name, Server and Settings decide what would be asked or told from the
	// folder; empty to do that.
	Name, Server, Settings string
	// NewServer is a server to add to the estate file; nil for none.
	NewServer *NewServer
	// Estate is the estate file that gets the entry; nil when there is none yet.
	Estate *estate.Estate
	// Path is where the estate file is, or is to be.
	Path   string
	Loader estate.Loader
}

// NewServer is a server that the estate file does not have yet.
type NewServer struct {
	Name, DBMS, Socket, Host string
	Port                     int
}

// entry is its text in the estate file.
func (n NewServer) entry() (server, error) {
	product := dbms.Product(n.DBMS)
	switch {
	case !slices.Contains(dbms.Products, n.DBMS):
		return server{}, fault.New(fault.Invalid, fault.DidYouMean(n.DBMS, dbms.Products, "write --dbms "+strings.Join(dbms.Products, ", or --dbms ")), "it is not said what server %s is", n.Name)
	case (n.Socket == "") == (n.Host == ""):
		return server{}, fault.New(fault.Invalid, "write --socket PATH, or --host NAME and --port NUMBER", "it is not said where server %s is", n.Name)
	}
	where, about := "socket: "+scalar(n.Socket), "socket "+n.Socket
	if n.Host != "" {
		port := cmp.Or(n.Port, product.DefaultPort())
		where, about = fmt.Sprintf("host: %s\nport: %d", scalar(n.Host), port), fmt.Sprintf("%s:%d", n.Host, port)
	}
	one := server{name: n.Name, product: product, about: product.Title() + " at " + about,
		entry: "dbms: " + n.DBMS + "\n" + where + "\nadmin: {}   # its usual administrator; else write user, and password: {file: PATH}\n"}
	if product.Traits().LocalhostIsSocket {
		one.socket = n.Socket
	}
	return one, nil
}

// Question is a decision that a person has to make. Without one the first
// option is taken.
type Question struct {
	ID      string   `json:"id"`
	Text    string   `json:"text"`
	Options []string `json:"options"`
	Answer  int      `json:"answer"` // index of the option taken
}

// Proposal is an entry for an application.
type Proposal struct {
	Findings *discover.Findings `json:"findings"`
	App      string             `json:"app"`
	Server   string             `json:"server"`
	// NewServer is an entry for a server that the estate file does not have.
	NewServer string     `json:"new_server,omitempty"`
	Entry     string     `json:"entry"`
	Questions []Question `json:"questions"`
	// Missing says why the entry cannot be written yet; empty when it can.
	Missing string `json:"missing,omitempty"`
	// Others are apps of the estate that have this folder already.
	Others []string `json:"others,omitempty"`

	options Options
	servers []server
	meant   meanings
	host    host.Host
	// elsewhere: PHP takes localhost for another socket than the chosen server's.
	elsewhere bool
}

// server is one that the application could use.
type server struct {
	name    string
	product dbms.Product
	entry   string // text of a new one; empty for one of the estate file
	about   string
	// socket is where it listens, if PHP is to find it there by localhost.
	socket string
}

func (s server) family() string { return s.product.Traits().Family }

// New looks through the folder and makes a proposal.
func New(ctx context.Context, o Options) (*Proposal, error) {
	p := &Proposal{options: o, Questions: []Question{}}
	var err error
	if p.servers, err = p.knownServers(ctx); err != nil {
		return nil, err
	}
	family := ""
	for _, s := range p.servers {
		if s.name == p.options.Server {
			family = s.family()
		}
	}
	if p.Findings, err = discover.Look(ctx, o.Folder, family); err != nil {
		return nil, err
	}
	if !p.Findings.SpeaksToServer() {
		what := "no settings file with a login, no SQL to import, and no code that makes tables"
		if len(p.Findings.DBMS) > 0 {
			what += "; that some code could log in, such as " + p.Findings.DBMS[0].Reasons[0] + ", is optional"
		}
		return nil, fault.At(fault.Differs, fault.Place{File: o.Folder}, "if it needs a database all the same, write its entry by hand", "no entry is made: nothing here speaks to MariaDB, MySQL or PostgreSQL: %s", what)
	}
	p.App = o.Name
	if p.App == "" {
		p.App = p.Findings.Name
	}
	p.chooseServer()
	if o.Settings != "" {
		if err := p.preferSettings(o.Settings); err != nil {
			return nil, err
		}
	}
	p.findOthers()
	p.ask()
	p.compose()
	p.check()
	return p, nil
}

// preferSettings puts the candidate that is named before the others.
func (p *Proposal) preferSettings(name string) error {
	found := p.Findings.Settings
	names := make([]string, len(found))
	for i, c := range found {
		if names[i] = c.File; c.File == name {
			p.Findings.Settings = append([]*discover.Candidate{c}, slices.Delete(slices.Clone(found), i, i+1)...)
			return nil
		}
	}
	next := "look at it with: yellowfield settings show " + name
	if len(names) > 0 {
		next = fault.DidYouMean(name, names, "found: "+strings.Join(names, ", "))
	}
	return fault.At(fault.Invalid, fault.Place{File: filepath.Join(p.Findings.Folder, name)}, next, "no login was found in %s", name)
}

// knownServers are those of the estate file, else those found on this host.
func (p *Proposal) knownServers(ctx context.Context) ([]server, error) {
	var known []server
	if e := p.options.Estate; e != nil {
		for _, name := range estate.Names(e.Servers) {
			s := e.Servers[name]
			one := server{name: name, product: s.DBMS, about: s.DBMS.Title()}
			if s.DBMS.Traits().LocalhostIsSocket && s.SeenByApps == nil {
				one.socket = s.Socket
			}
			known = append(known, one)
		}
	}
	if n := p.options.NewServer; n != nil {
		one, err := n.entry()
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(known, func(s server) bool { return s.name == n.Name }) {
			return nil, fault.New(fault.Invalid, "choose another name, or use it with --server "+n.Name, "the estate file has a server %s already", n.Name)
		}
		p.options.Server = n.Name
		return append(known, one), nil
	}
	if p.options.Server != "" && !slices.ContainsFunc(known, func(s server) bool { return s.name == p.options.Server }) {
		names := make([]string, len(known))
		for i, s := range known {
			names[i] = s.name
		}
		return nil, fault.New(fault.Invalid, fault.DidYouMean(p.options.Server, names, "known: "+strings.Join(names, ", ")), "the estate file has no server %q", p.options.Server)
	}
	if len(known) == 0 {
		known = findServers(ctx)
	}
	return known, nil
}

// closeScores is how near the second settings file must be to the first to be
// asked about.
const closeScores = 4

// Questions of a proposal.
const (
	askServer   = "server"
	askSettings = "settings"
	askTables   = "tables"
)

// ask collects what only a person can decide.
func (p *Proposal) ask() {
	if fitting := p.fitting(); p.options.Server == "" && len(fitting) > 1 {
		question := Question{ID: askServer, Text: "Which server is its database on?"}
		for i, s := range fitting {
			question.Options = append(question.Options, s.name+", "+s.about)
			if p.options.Estate != nil && s.name == p.options.Estate.DefaultServer {
				question.Answer = i
			}
		}
		p.Questions = append(p.Questions, question)
	}
	found := p.Findings.Settings
	if p.options.Settings == "" && len(found) > 1 && found[0].Score-found[1].Score < closeScores {
		question := Question{ID: askSettings, Text: "Which file does the application read its login from?"}
		for _, c := range found {
			if found[0].Score-c.Score < closeScores {
				question.Options = append(question.Options, c.File)
			}
		}
		p.Questions = append(p.Questions, question)
	}
	if n := len(p.Findings.Import()); n > 0 && (p.makesTables() || n > shownScripts*3) && !p.leavesTables() {
		p.Questions = append(p.Questions, Question{
			ID: askTables, Text: "Its SQL can be imported, and its installer makes tables too. Which of them shall it be?",
			Options: []string{"import the SQL", "leave it to the installer"},
		})
	}
}

// chooseServer takes the server that was named or answered, and fits what was
// found to it.
func (p *Proposal) chooseServer() {
	p.NewServer, p.Server = "", p.options.Server
	fitting := p.fitting()
	if p.Server == "" && len(fitting) > 0 {
		p.Server = fitting[p.answer(askServer)].name
	}
	for _, s := range p.servers {
		if s.name == p.Server {
			p.NewServer = s.entry
			p.Findings.FitTo(s.family(), string(s.product))
		}
	}
}

// findOthers finds the apps of the estate that have the folder already.
func (p *Proposal) findOthers() {
	if p.options.Estate == nil {
		return
	}
	for _, name := range estate.Names(p.options.Estate.Apps) {
		if folder := p.options.Estate.Apps[name].Folder; folder != "" && p.host.SameFile(folder, p.Findings.Folder) {
			p.Others = append(p.Others, name)
		}
	}
}

// phpGoesElsewhere reports whether PHP on this host takes localhost for another socket
// than the chosen server's.
func (p *Proposal) phpGoesElsewhere() bool {
	i := slices.IndexFunc(p.servers, func(s server) bool { return s.name == p.Server })
	if i < 0 || p.servers[i].socket == "" {
		return false
	}
	php, err := p.host.PHP(p.phpConfiguration())
	return err == nil && php != nil && !p.host.SameFile(php.DefaultSocket(), p.servers[i].socket)
}

// phpConfiguration is where the estate file has PHP's configuration for all apps; empty
// where it says nothing.
func (p *Proposal) phpConfiguration() string {
	if p.options.Estate == nil {
		return ""
	}
	return p.options.Estate.DefaultPHP
}

// makesTables reports whether code of the application's installer makes tables.
func (p *Proposal) makesTables() bool {
	for _, place := range p.Findings.Installer.TablesIn {
		for _, file := range p.Findings.Installer.Files {
			if strings.HasPrefix(place.File, file) {
				return true
			}
		}
	}
	return false
}

// fitting are the servers of a family that the application can use; all of
// them when the application does not tell.
func (p *Proposal) fitting() []server {
	if len(p.Findings.DBMS) == 0 {
		return p.servers
	}
	var fitting []server
	for _, f := range p.Findings.DBMS { // the likeliest first
		for _, s := range p.servers {
			if s.family() == f.Name {
				fitting = append(fitting, s)
			}
		}
	}
	return fitting
}

// Answer decides a question and makes the entry anew.
func (p *Proposal) Answer(id string, option int) {
	for i := range p.Questions {
		if p.Questions[i].ID == id && option >= 0 && option < len(p.Questions[i].Options) {
			p.Questions[i].Answer = option
		}
	}
	p.compose()
	p.check()
}

func (p *Proposal) answer(id string) int {
	for _, q := range p.Questions {
		if q.ID == id {
			return q.Answer
		}
	}
	return 0
}

// Written is what Write did.
type Written struct {
	Path string `json:"path"`
	New  bool   `json:"new"` // the estate file was not there before
}

// waysOut is what to do about what is missing.
func (p *Proposal) waysOut() string {
	if p.Server == "" {
		return "name one: --new-server NAME --dbms mariadb --socket PATH (or --host NAME --port NUMBER); or write into the estate file: servers: {NAME: {dbms: mariadb, socket: PATH, admin: {user: root}}}"
	}
	if p.logsInElsewhere() {
		return "name a server of that kind: --server NAME, or a new one: --new-server NAME --dbms PRODUCT --socket PATH (or --host NAME --port NUMBER)"
	}
	return "take the entry (without --write), and complete it by hand"
}

// estateText is the estate file as it is; isNew for one that is still to be made.
func (p *Proposal) estateText() (source []byte, isNew bool, err error) {
	source, err = os.ReadFile(p.options.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return []byte("# The estate: database servers, and the applications that have their databases there.\n\n"), true, nil
	case err != nil:
		return nil, false, fault.At(fault.Invalid, fault.Place{File: p.options.Path}, "check its permissions", "the estate file cannot be read: %v", err).With(err)
	}
	return source, false, nil
}

// with gives the estate file with an entry for the app, and what it says then. refused
// says that it is the entry that the loader does not take.
func (p *Proposal) with(source []byte, entry string) (text []byte, loaded *estate.Estate, refused bool, err error) {
	var servers []estate.Entry
	if p.NewServer != "" {
		servers = []estate.Entry{{Name: p.Server, Text: p.NewServer}}
	}
	if text, err = p.options.Loader.Insert(p.options.Path, source, servers, []estate.Entry{{Name: p.App, Text: entry}}); err != nil {
		return nil, nil, false, err
	}
	if loaded, err = p.options.Loader.LoadSomeText(p.options.Path, text); err == nil {
		err = loaded.FaultsOf(p.App)
	}
	return text, loaded, err != nil, err
}

// check has the loader read the entry before it is shown: one that its own estate file
// refuses is not offered.
func (p *Proposal) check() {
	if p.Missing != "" {
		return
	}
	source, _, err := p.estateText()
	if err != nil {
		return // writing it says so
	}
	if _, _, refused, err := p.with(source, p.Entry); refused {
		p.Missing = "the estate file would refuse its own entry: " + fault.As(err).What
	}
}

// Write adds the entry to the estate file, which keeps its layout, its
// comments, its owner and its mode.
func (p *Proposal) Write(ctx context.Context) (*Written, error) {
	if p.Missing != "" {
		return nil, fault.New(fault.Differs, p.waysOut(), "the entry is not written: %s", p.Missing)
	}
	path := p.options.Path
	w := &Written{Path: path}
	if _, err := os.Stat(filepath.Dir(path)); err == nil { // else writing says so
		release, err := estate.LockFolder(ctx, filepath.Dir(path)) // other runs may be changing the file
		if err != nil {
			return nil, err
		}
		defer release()
	}
	attributes := atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o640}
	source, isNew, err := p.estateText()
	if w.New = isNew; err == nil && !isNew {
		attributes, err = atomicfile.AttributesOf(path)
	}
	if err != nil {
		return nil, err
	}
	after, read, _, err := p.with(source, p.Entry)
	if err != nil {
		return nil, err
	}
	plain, err := p.meant.text()
	if err != nil {
		return nil, err
	}
	_, meant, _, err := p.with(source, plain)
	if err != nil {
		return nil, err
	}
	// Names and values of an unpacked tree stand in the entry, and a tree may hope
	// that one of them is read as a key.
	if !reflect.DeepEqual(read.Apps, meant.Apps) || !reflect.DeepEqual(read.Servers, meant.Servers) || read.DefaultServer != meant.DefaultServer {
		return nil, fault.New(fault.Protected, "write the entry by hand, and look at what the tree holds",
			"the entry is not added: it would be read otherwise than it was meant, which a name or value of the tree must have brought about")
	}
	return w, atomicfile.Write(path, after, attributes)
}
