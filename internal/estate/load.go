package estate

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

// FileName is what an estate file is called when nothing else is said.
const FileName = "yellowfield.yaml"

// Estate is a loaded and validated estate file with all it includes. Every
// path in it is absolute.
type Estate struct {
	Path string // of the estate file
	// DefaultServer is the server of apps that name none; may be empty.
	DefaultServer string
	// DefaultPHP is the configuration of PHP for apps that say nothing of PHP; may be
	// empty.
	DefaultPHP string
	Servers    map[string]*Server
	Apps       map[string]*App
	// LongestStatement of SQL scripts; 0 when nothing was said.
	LongestStatement Size
	// KeepHistory of runs; 0 for ever.
	KeepHistory Days
	// Exports is the folder of exports that name no file; empty for the state folder.
	Exports string
	// Broken are the faults in the entries of apps, by their names. LoadSome leaves such
	// apps out of Apps.
	Broken map[string][]*fault.Error

	left    map[string]*App // that are broken, as far as they could be read
	loader  Loader
	places  map[string]fault.Place
	sources map[string][]byte
	errs    []error
}

// Loader loads estate files. What they say is run as the user who runs the
// program, so that by itself it reads none that others could have written.
type Loader struct {
	TrustOthers bool // read also those that others could have written
	// instead is what files are taken to hold.
	instead map[string][]byte
}

// Find looks for the estate file in folder and its parents.
func Find(folder string) (string, error) {
	for at := folder; ; at = filepath.Dir(at) {
		path := filepath.Join(at, FileName)
		if info, err := os.Stat(path); err == nil && !info.IsDir() {
			return path, nil
		}
		if filepath.Dir(at) == at {
			return "", fault.New(fault.Invalid, "go to its folder, or name it with --estate FILE or YELLOWFIELD_ESTATE",
				"there is no %s in %s or a folder above", FileName, folder)
		}
	}
}

// Load reads, completes and validates an estate file. The error holds every
// fault found, each with its place; nothing has been touched.
func (l Loader) Load(path string) (*Estate, error) { return whole(l.LoadSome(path)) }

// LoadText is Load of a text that is, or is to become, the file at path.
func (l Loader) LoadText(path string, source []byte) (*Estate, error) {
	return whole(l.LoadSomeText(path, source))
}

// whole takes the faults in entries of apps for errors, too.
func whole(e *Estate, err error) (*Estate, error) {
	if err == nil && len(e.Broken) > 0 {
		return nil, e.allFaults()
	}
	return e, err
}

// LoadSome is Load for work on some apps: faults in the entries of others are in Broken.
// What concerns all of them (servers, defaults, the file as a whole) is an error as ever.
func (l Loader) LoadSome(path string) (*Estate, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	source, err := l.readSource(path)
	if err != nil {
		return nil, err
	}
	return l.LoadSomeText(path, source)
}

// FaultsOf joins the faults in an app's entry; nil where it has none.
func (e *Estate) FaultsOf(app string) error { return joined(e.Broken[app]) }

// allFaults joins the faults of all apps, in file order.
func (e *Estate) allFaults() error {
	var all []*fault.Error
	for _, name := range Names(e.Broken) {
		all = append(all, e.Broken[name]...)
	}
	slices.SortStableFunc(all, func(a, b *fault.Error) int {
		return cmp.Or(cmp.Compare(a.Place.File, b.Place.File), cmp.Compare(a.Place.Line, b.Place.Line), cmp.Compare(a.Place.Column, b.Place.Column))
	})
	return joined(all)
}

func joined(faults []*fault.Error) error {
	var errs []error
	for _, f := range faults {
		errs = append(errs, f)
	}
	return errors.Join(errs...)
}

// leaveOut takes apps out whose entries have faults; an error holds the faults that are
// in no app's.
func (e *Estate) leaveOut(errs []error) error {
	var rest []error
	for _, f := range fault.All(errors.Join(errs...)) {
		app := e.appAt(f.Place)
		if app == "" {
			rest = append(rest, f)
			continue
		}
		e.Broken[app] = append(e.Broken[app], f)
		if e.Apps[app] != nil {
			e.left[app] = e.Apps[app]
			delete(e.Apps, app)
		}
	}
	if len(rest) > 0 { // then all of them matter
		return errors.Join(errors.Join(rest...), e.allFaults())
	}
	return nil
}

// appAt is the app in whose entry a place is; empty for one in none.
func (e *Estate) appAt(place fault.Place) string {
	owner, at := "", fault.Place{}
	for path, begins := range e.places {
		top, below, _ := strings.Cut(path, ".")
		isApp := top == "apps" && below != "" && !strings.ContainsAny(below, ".[")
		if begins.File != place.File || strings.ContainsAny(top, "[") || below != "" && !isApp {
			continue
		}
		before := begins.Line < place.Line || begins.Line == place.Line && begins.Column <= place.Column
		later := begins.Line > at.Line || begins.Line == at.Line && begins.Column > at.Column
		if before && later {
			owner, at = below, begins
		}
	}
	return owner
}

// LoadSomeText is LoadSome of a text that is, or is to become, the file at path.
func (l Loader) LoadSomeText(path string, source []byte) (*Estate, error) {
	e := &Estate{
		Path: path, loader: l, Servers: map[string]*Server{}, Apps: map[string]*App{},
		places: map[string]fault.Place{}, sources: map[string][]byte{}, Broken: map[string][]*fault.Error{}, left: map[string]*App{},
	}
	var main File
	e.sources[path] = source
	err := decodeFile(path, source, &main, e.places)
	e.take(main)
	if err != nil {
		if err := e.leaveOut([]error{err}); err != nil {
			return nil, err
		}
	}
	for i, pattern := range main.Include {
		e.include(pattern, fmt.Sprintf("include[%d]", i))
	}
	e.LongestStatement, e.KeepHistory = main.LongestStatement, main.KeepHistory
	if main.Exports != "" {
		e.Exports = e.absolute(main.Exports)
	}
	if err := e.leaveOut(e.errs); err != nil {
		return nil, err
	}
	e.errs = nil
	e.complete(main.Defaults)
	if len(e.errs) == 0 {
		e.validate(main.Defaults)
	}
	if err := e.leaveOut(e.errs); err != nil {
		return nil, err
	}
	return e, nil
}

// trusted refuses a file that says what root runs and could have been written by
// somebody else.
func (l Loader) trusted(path string) error {
	if l.TrustOthers {
		return nil
	}
	who, err := host.WrittenByOthers(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil // reading it says so
	case err != nil:
		return fault.At(fault.Invalid, fault.Place{File: path}, "check the path and its permissions", "it cannot be told who could have written the estate file: %v", err).With(err)
	case who != "":
		return fault.At(fault.Protected, fault.Place{File: path}, "chown it and the folders above to the user who runs this and take the rights of others away, or add --trust-estate once it was looked through",
			"the estate file says what is run here, and others could have written it: %s", who)
	}
	return nil
}

func (l Loader) readSource(path string) ([]byte, error) {
	if err := l.trusted(path); err != nil {
		return nil, err
	}
	if source, is := l.instead[path]; is {
		return source, nil
	}
	source, err := host.ReadFile(path)
	var known *fault.Error
	if errors.As(err, &known) {
		return nil, err
	}
	if err != nil {
		var pathError *fs.PathError
		errors.As(err, &pathError)
		return nil, fault.At(fault.Invalid, fault.Place{File: path}, "check the path and its permissions", "the estate file cannot be read: %v", pathError.Err).With(err)
	}
	return source, nil
}

func (e *Estate) read(path string, target any) error {
	source, err := e.loader.readSource(path)
	if err != nil {
		return err
	}
	e.sources[path] = source
	return decodeFile(path, source, target, e.places)
}

// take adds a file's servers and apps.
func (e *Estate) take(file File) {
	for name, server := range file.Servers {
		if server == nil {
			server = &Server{}
		}
		server.Name = name
		e.Servers[name] = server
	}
	for name, app := range file.Apps {
		if app == nil {
			app = &App{}
		}
		app.Name = name
		e.Apps[name] = app
	}
}

func (e *Estate) include(pattern, path string) {
	found, err := filepath.Glob(e.absolute(pattern))
	if err != nil {
		e.fault(path, "write for instance apps/*.yaml", "%q is no pattern of file names", pattern)
		return
	}
	if len(found) == 0 && !strings.ContainsAny(pattern, "*?[") {
		e.fault(path, "correct the path; it counts from the estate file", "there is no file %s", pattern)
	}
	for _, name := range found {
		if name == e.Path || e.sources[name] != nil {
			continue
		}
		var part struct {
			Servers map[string]*Server `yaml:"servers"`
			Apps    map[string]*App    `yaml:"apps"`
		}
		// Places of the included file must not hide those of the files
		// before it, or a doubled name could not be reported.
		places := map[string]fault.Place{}
		outer := e.places
		e.places = places
		err := e.read(name, &part)
		e.places = outer
		if err != nil {
			e.errs = append(e.errs, err)
		}
		for key := range maps.Keys(part.Servers) {
			e.once("servers."+key, e.Servers[key] != nil, places)
		}
		for key := range maps.Keys(part.Apps) {
			e.once("apps."+key, e.Apps[key] != nil, places)
		}
		for key, place := range places {
			if strings.Contains(key, ".") {
				e.places[key] = place
			}
		}
		e.take(File{Servers: part.Servers, Apps: part.Apps})
	}
}

func (e *Estate) once(path string, exists bool, places map[string]fault.Place) {
	if exists {
		e.errs = append(e.errs, fault.At(fault.Invalid, places[path], "rename or remove one of the two",
			"%q is there twice, first at %s", lastKey(path), e.places[path]).WithExcerpt(e.sources[places[path].File]))
	}
}

// Place is where a key of the file stands, or the nearest key above that the
// file has. Path elements are joined with dots, list items are name[0].
func (e *Estate) Place(path string) fault.Place {
	for {
		if place, known := e.places[path]; known {
			return place
		}
		i := strings.LastIndexAny(path, ".[")
		if i < 0 {
			return fault.Place{File: e.Path}
		}
		path = path[:i]
	}
}

// Fault is an error about a key of the estate file, with its place and line.
func (e *Estate) Fault(class fault.Class, path, next, format string, args ...any) *fault.Error {
	place := e.Place(path)
	return fault.At(class, place, next, format, args...).WithExcerpt(e.sources[place.File])
}

func (e *Estate) fault(path, next, format string, args ...any) {
	e.errs = append(e.errs, e.Fault(fault.Invalid, path, next, format, args...))
}

// absolute makes a path of the estate file absolute.
func (e *Estate) absolute(path string) string {
	if path == "" || filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(e.Path), path)
}

// complete fills in defaults and makes paths absolute.
func (e *Estate) complete(d Defaults) {
	e.DefaultServer = d.Server
	if d.PHP != nil && d.PHP.Configuration != "" {
		e.DefaultPHP = e.absolute(d.PHP.Configuration)
	}
	for _, s := range e.Servers {
		if s.Socket == "" && s.Port == 0 {
			s.Port = s.DBMS.DefaultPort()
		}
		s.CA = e.absolute(s.CA)
		if s.Admin != nil {
			s.Admin.Options = e.absolute(s.Admin.Options)
			e.completePassword(s.Admin.Password)
		}
	}
	for _, a := range e.Apps {
		a.Server = or(a.Server, d.Server)
		a.Folder = e.absolute(a.Folder)
		if len(a.Databases) > 0 && a.Database == (Database{}) {
			a.Database = *a.Databases[0]
		}
		for _, database := range a.All() {
			database.complete(d, e.Servers[a.Server])
		}
		if a.Ownership == nil {
			a.Ownership = d.Ownership
		}
		if a.PHP == nil {
			a.PHP = d.PHP
		}
		if a.PHP != nil {
			a.PHP.Configuration, a.PHP.Scan = e.absolute(a.PHP.Configuration), e.absolute(a.PHP.Scan)
		}
		for _, account := range a.Accounts {
			if account.ClientHosts == nil {
				account.ClientHosts = d.Account.ClientHosts
			}
			if account.ClientHosts == nil {
				account.ClientHosts = []string{"localhost"}
			}
			if account.Rights.IsZero() {
				account.Rights = d.Account.Rights
			}
			if account.Rights.IsZero() {
				account.Rights = Rights{Installing: []string{"structure"}, Running: []string{"structure"}}
			}
			if account.Limits == (Limits{}) {
				account.Limits = d.Account.Limits
			}
			e.completePassword(account.Password)
		}
	}
}

// complete fills in defaults, and what goes without saying.
func (d *Database) complete(defaults Defaults, server *Server) {
	d.Charset = or(d.Charset, defaults.Database.Charset)
	d.Collation = or(d.Collation, defaults.Database.Collation)
	var product dbms.Product
	if server != nil {
		product = server.DBMS
	}
	d.Charset, d.Collation = product.CompleteDatabase(d.Charset, d.Collation)
}

func (e *Estate) completePassword(p *PasswordSource) {
	if p != nil {
		p.File = e.absolute(p.File)
	}
}

func or(value, otherwise string) string {
	if value == "" {
		return otherwise
	}
	return value
}

// Names gives the names of a map in their order.
func Names[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// Select gives the apps that names and labels choose, in the order of their
// names: all of them when nothing is said.
func (e *Estate) Select(names, labels []string) ([]*App, error) {
	if len(names) == 0 && len(e.Broken) > 0 {
		return nil, e.allFaults()
	}
	var chosen []*App
	for _, name := range names {
		if err := e.FaultsOf(name); err != nil {
			return nil, err
		}
		if e.Apps[name] == nil {
			return nil, fault.At(fault.Invalid, fault.Place{File: e.Path}, fault.DidYouMean(name, Names(e.Apps), "known: "+strings.Join(Names(e.Apps), ", ")),
				"there is no app %q", name)
		}
	}
	var known []string
	for _, name := range Names(e.Apps) {
		app := e.Apps[name]
		known = append(known, app.Labels...)
		byName := len(names) == 0 || slices.Contains(names, name)
		byLabel := len(labels) == 0 || slices.ContainsFunc(labels, func(l string) bool { return slices.Contains(app.Labels, l) })
		if byName && byLabel {
			chosen = append(chosen, app)
		}
	}
	for _, label := range labels {
		if !slices.Contains(known, label) {
			slices.Sort(known)
			return nil, fault.At(fault.Invalid, fault.Place{File: e.Path}, fault.DidYouMean(label, known, "known: "+strings.Join(slices.Compact(known), ", ")),
				"no app has the label %q", label)
		}
	}
	return chosen, nil
}

// Address is how we reach the server.
func (s *Server) Address() dbms.Address {
	return dbms.Address{Socket: s.Socket, Host: s.Host, Port: s.Port, TLS: s.TLS, CA: s.CA, Certificate: s.Certificate}
}

// HostForApps and PortForApps are what the applications are to
// write. A PHP application that says localhost means the socket, so a server
// that we reach at localhost over TCP is 127.0.0.1 to them.
func (s *Server) HostForApps() string {
	switch {
	case s.SeenByApps != nil && s.SeenByApps.Host != "":
		return s.SeenByApps.Host
	case s.Socket != "" && !s.DBMS.Traits().LocalhostIsSocket: // a folder as host is the socket there
		folder, _ := s.Address().PostgresSocket()
		return folder
	case s.Socket != "":
		return "localhost"
	case s.Host == "localhost":
		return "127.0.0.1"
	}
	return s.Host
}

// PortForApps is the port that the applications are to write.
func (s *Server) PortForApps() int {
	switch {
	case s.SeenByApps != nil && s.SeenByApps.Port != 0:
		return s.SeenByApps.Port
	case s.Socket != "" && !s.DBMS.Traits().LocalhostIsSocket:
		_, port := s.Address().PostgresSocket()
		return port
	case s.Port != 0:
		return s.Port
	}
	return s.DBMS.DefaultPort()
}

// AccountOf is the account whose facts a settings file gets.
func (a *App) AccountOf(s *Settings) *Account {
	for _, account := range a.Accounts {
		if account.Name == s.Account {
			return account
		}
	}
	return a.Accounts[0]
}

// InFolder makes a path of the app absolute.
func (a *App) InFolder(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(a.Folder, path)
}

// Shown is a path as the app's entry would write it.
func (a *App) Shown(path string) string {
	if relative, inside := host.Below(a.Folder, path); inside {
		return relative
	}
	return path
}

// MadeByInstaller reports whether the application's installer writes this
// settings file.
func (a *App) MadeByInstaller(s *Settings) bool { return slices.Contains(a.Installer.Settings, s.File) }
