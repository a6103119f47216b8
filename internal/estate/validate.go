package estate

import (
	"fmt"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

var (
	appName    = regexp.MustCompile(`^[a-z][a-z0-9_-]*$`)
	ownName    = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)
	portable   = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	givenName  = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_$-]*$`)
	clientHost = regexp.MustCompile(`^[A-Za-z0-9.:%_/-]+$`)
	prefixish  = regexp.MustCompile(`^[A-Za-z0-9_]*$`)
)

// reservedDatabases belong to the servers or mean something special to them.
var reservedDatabases = []string{"mysql", "information_schema", "performance_schema", "sys", "test", "ndbinfo",
	"postgres", "template0", "template1", "all", "sameuser", "samerole", "samegroup", "replication"}

// reservedUsers are the servers' own accounts, and words that stand for others.
var reservedUsers = []string{"root", "mysql", "mariadb_sys", "debian_sys_maint", "postgres", "public", "none",
	"current_user", "session_user", "all", "user", "pg_signal_backend"}

func (e *Estate) validate(d Defaults) {
	for _, name := range Names(e.Servers) {
		e.validateServer(e.Servers[name], "servers."+name)
	}
	if d.Server != "" && e.Servers[d.Server] == nil {
		e.unknownServer("defaults.server", d.Server)
		return
	}
	for _, name := range Names(e.Apps) {
		e.validateApp(e.Apps[name], "apps."+name)
		if _, inside := host.Below(e.Apps[name].Folder, e.Exports); inside && e.Exports != "" && e.Apps[name].Folder != "" {
			e.fault("exports", "name a folder that no web server reads", "the exports would lie in the folder of app %s, from where they may be served", name)
		}
	}
	if err := e.leaveOut(e.errs); err != nil {
		return // all of it is told
	}
	e.errs = nil
	e.validateSharing()
}

func (e *Estate) unknownServer(path, name string) {
	e.fault(path, fault.DidYouMean(name, Names(e.Servers), "known: "+strings.Join(Names(e.Servers), ", ")), "there is no server %q", name)
}

func (e *Estate) validateServer(s *Server, path string) {
	if !ownName.MatchString(s.Name) {
		e.fault(path, "small letters, digits and hyphens, a letter first", "%q cannot be a server's name", s.Name)
	}
	if s.DBMS == "" {
		e.fault(path, "write dbms: with one of "+strings.Join(dbms.Products, ", "), "server %s says no dbms", s.Name)
	} else if !slices.Contains(dbms.Products, string(s.DBMS)) {
		e.fault(path+".dbms", fault.DidYouMean(string(s.DBMS), dbms.Products, "known: "+strings.Join(dbms.Products, ", ")), "unknown dbms %q", s.DBMS)
	}
	if (s.Socket == "") == (s.Host == "") {
		e.fault(path, "give either socket: PATH, or host: NAME with port:", "server %s must have a socket or a host", s.Name)
	}
	if s.Socket != "" && !filepath.IsAbs(s.Socket) {
		e.fault(path+".socket", "write it from the root", "the path of a socket must be absolute")
	}
	if s.Socket != "" && (s.Port != 0 && s.DBMS.Traits().LocalhostIsSocket || s.TLS != "" || s.CA != "" || s.Certificate != "") {
		e.fault(path, "remove port, tls, ca and certificate, or give a host", "server %s has a socket, where port, tls, ca and certificate mean nothing", s.Name)
	}
	e.validatePort(path+".port", s.Port)
	if s.TLS != "" && !slices.Contains(dbms.TLSModes, string(s.TLS)) {
		e.fault(path+".tls", fault.DidYouMean(string(s.TLS), dbms.TLSModes, "known: "+strings.Join(dbms.TLSModes, ", ")), "unknown tls %q", s.TLS)
	}
	e.validateTrust(s, path)
	if s.SeenByApps != nil {
		e.validatePort(path+".seen_by_apps.port", s.SeenByApps.Port)
	}
}

// validateTrust looks at what makes a server known.
func (e *Estate) validateTrust(s *Server, path string) {
	for key, value := range map[string]string{"ca": s.CA, "certificate": s.Certificate} {
		if value != "" && s.TLS != "" && s.TLS != dbms.TLSVerify {
			e.fault(path+"."+key, "write tls: verify", "%s has a meaning with tls: verify only", key)
		}
	}
	if s.CA != "" && s.Certificate != "" {
		e.fault(path+".certificate", "remove one of them", "server %s has ca and certificate; the one certificate is enough", s.Name)
	}
	if s.Certificate != "" {
		fingerprint, is := dbms.ParseFingerprint(s.Certificate)
		if !is {
			e.fault(path+".certificate", "write sha256: and the 64 hexadecimal digits that openssl x509 -noout -fingerprint -sha256 -in FILE prints on the server's host", "this is no fingerprint of a certificate")
		}
		s.Certificate = fingerprint
	}
}

func (e *Estate) validatePort(path string, port int) {
	if port < 0 || port > 65535 {
		e.fault(path, "ports go from 1 to 65535", "%d is no port", port)
	}
}

func (e *Estate) validateApp(a *App, path string) {
	if _, err := time.Parse(time.DateOnly, a.Retired); a.Retired != "" && err != nil {
		e.fault(path+".retired", "write the day, such as 2026-11-26", "%q is no day", a.Retired)
	}
	if !appName.MatchString(a.Name) {
		e.fault(path, "small letters, digits, hyphens and underscores, a letter first", "%q cannot be an app's name", a.Name)
	}
	server := e.Servers[a.Server]
	switch {
	case a.Server == "":
		e.fault(path, "write server: NAME, or one under defaults", "app %s names no server", a.Name)
		return
	case server == nil:
		e.unknownServer(path+".server", a.Server)
		return
	}
	if a.Folder == "" && (len(a.Settings) > 0 || len(a.Import) > 0) {
		e.fault(path, "write folder: PATH", "app %s has files and no folder", a.Name)
	}
	if u, err := url.Parse(a.URL); a.URL != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil) {
		e.fault(path+".url", "write http:// or https://, the host and the path, and no login", "%q is no address of a web site", a.URL)
	}
	for i, folder := range a.Links {
		if !filepath.IsAbs(folder) || filepath.Clean(folder) == string(filepath.Separator) {
			e.fault(fmt.Sprintf("%s.links[%d]", path, i), "write the folder's absolute path, such as /srv/shared/photos", "%q is no absolute folder", folder)
		}
	}
	for i, one := range a.Accept {
		at := fmt.Sprintf("%s.accept[%d]", path, i)
		switch {
		case !slices.Contains(Findings, one.Finding):
			e.fault(at+".finding", fault.DidYouMean(one.Finding, Findings, "known: "+strings.Join(Findings, ", ")), "there is no finding %q that can be accepted", one.Finding)
		case one.Object == "" || strings.TrimSpace(one.Why) == "":
			e.fault(at, "write object: and why:, as verify --details shows them", "it is not said what is accepted, and why")
		}
	}
	if len(a.Databases) > 0 && a.Databases[0].Key != a.Database.Key {
		e.fault(path+".databases", "put the database under databases, as the first of them", "app %s has both database and databases", a.Name)
	}
	e.validateNames(a, server, path)
	if !prefixish.MatchString(a.Prefix) {
		e.fault(path+".prefix", "letters, digits and underscores", "%q cannot be a table prefix", a.Prefix)
	}
	e.validateRuns(a, server, path)
	if a.Installer.Tables && len(a.Import) > 0 {
		e.fault(path+".installer.tables", "remove one of the two", "the tables cannot come from both the installer and an import")
	}
	e.validateSettings(a, path)
	e.validateOwnership(a, path+".ownership")
}

// validateNames checks an app's databases and accounts.
func (e *Estate) validateNames(a *App, server *Server, path string) {
	names := map[string]bool{}
	for _, d := range a.All() {
		e.validateDatabase(a, *d, server, path+"."+d.Path())
		if names[d.Name] && d.Name != "" {
			e.fault(path+"."+d.Path()+".name", "choose another name", "the database %s is there twice", d.Name)
		}
		names[d.Name] = true
	}
	if len(a.Accounts) == 0 {
		e.fault(path, "write accounts: with at least a name", "app %s has no account", a.Name)
	}
	seen := map[string]bool{}
	for i, account := range a.Accounts {
		at := fmt.Sprintf("%s.accounts[%d]", path, i)
		e.validateAccount(account, server, at)
		for j, key := range account.Databases {
			e.knownDatabase(fmt.Sprintf("%s.databases[%d]", at, j), a, key)
		}
		if seen[account.Name] {
			e.fault(at+".name", "give one account several client_hosts instead", "the account %s is there twice", account.Name)
		}
		seen[account.Name] = true
	}
}

// validateRuns checks what is run for an app: scripts, PHP, commands, and what an import sets on
// its server.
func (e *Estate) validateRuns(a *App, server *Server, path string) {
	for i, script := range a.Import {
		at := fmt.Sprintf("%s.import[%d]", path, i)
		e.inside(at, a, script.File)
		if script.Into != "" {
			e.knownDatabase(at+".into", a, script.Into)
		}
		if script.PrefixToken != "" && a.Prefix == "" {
			e.fault(at+".prefix_token", "write prefix: for the app", "a prefix token needs a prefix to put in its place")
		}
	}
	if a.PHP != nil {
		e.validatePHP(path+".php", a.PHP)
	}
	for i, command := range a.AfterSettingsChange {
		if len(command) == 0 || command[0] == "" {
			e.fault(fmt.Sprintf("%s.after_settings_change[%d]", path, i), "write for instance [systemctl, reload, php-fpm]", "a command without a program")
		}
	}
	if len(a.ServerDuringImport) > 0 && !server.DBMS.Traits().Variables {
		e.fault(path+".server_during_import", "remove it", "%s needs no server settings for an import", server.DBMS.Title())
	}
	for name := range a.ServerDuringImport {
		if !slices.Contains(importVariables, name) {
			e.fault(path+".server_during_import", fault.DidYouMean(name, importVariables, "allowed: "+strings.Join(importVariables, ", ")),
				"%q is not set for an import", name)
		}
	}
}

// MaySetDuringImport reports whether server_during_import may name a variable.
func MaySetDuringImport(name string) bool { return slices.Contains(importVariables, name) }

// importVariables are the global variables that server_during_import may hold:
// what an import can need, and nothing about logins, files or other databases'
// safety.
var importVariables = []string{
	"innodb_default_row_format", "innodb_strict_mode", "local_infile", "log_bin_trust_function_creators", "max_allowed_packet",
	"max_statement_time", "net_read_timeout", "net_write_timeout",
}

func (e *Estate) validateDatabase(a *App, d Database, server *Server, path string) {
	if d.Key != "" && !ownName.MatchString(d.Key) {
		e.fault(path, "small letters, digits and hyphens, a letter first", "%q cannot name one of an app's databases", d.Key)
	}
	if d.Name == "" {
		e.fault(path, "write database: {name: NAME}", "app %s names no database", a.Name)
		return
	}
	e.validateName(path+".name", "database", d.Name, d.Existing, server.DBMS.Traits().LongestDatabase, reservedDatabases)
	if what, next := server.DBMS.CheckCharset(d.Charset); what != "" {
		e.fault(path+".charset", next, "app %s: %s", a.Name, what)
	} else if what, next := server.DBMS.CheckCollation(d.Collation); what != "" {
		e.fault(path+".collation", next, "app %s: %s", a.Name, what)
	}
	if !d.Existing && server.Admin == nil {
		e.fault(path, "give the server an admin, or write existing: true",
			"database %s cannot be made: server %s has no administrator", d.Name, server.Name)
	}
}

func (e *Estate) validateName(path, kind, name string, existing bool, longest int, reserved []string) {
	allowed, rule := portable, "small letters, digits and underscores, a letter first"
	if existing {
		allowed, rule = givenName, "letters, digits, underscores, hyphens and $"
	}
	switch {
	case !allowed.MatchString(name):
		e.fault(path, rule, "%q cannot be the name of %s %s", name, article(kind), kind)
	case longest > 0 && len(name) > longest:
		e.fault(path, "choose a shorter one", "the name of %s %s has %d characters, and this server allows %d", article(kind), kind, len(name), longest)
	case slices.Contains(reserved, strings.ToLower(name)):
		e.fault(path, "choose another", "%q is reserved: it belongs to the server or means something special to it", name)
	}
}

func article(noun string) string {
	if strings.ContainsRune("aeiou", rune(noun[0])) {
		return "an"
	}
	return "a"
}

func (e *Estate) validateAccount(a *Account, server *Server, path string) {
	if a.Name == "" {
		e.fault(path, "write name: NAME", "an account has no name")
		return
	}
	e.validateName(path+".name", "account", a.Name, a.Existing, server.DBMS.Traits().LongestUser, reservedUsers)
	for i, host := range a.ClientHosts {
		if !clientHost.MatchString(host) {
			e.fault(fmt.Sprintf("%s.client_hosts[%d]", path, i), "a name, an address, or a pattern with % and _", "%q cannot be a client host", host)
		}
	}
	if len(a.ClientHosts) == 0 {
		e.fault(path+".client_hosts", "write for instance [localhost]", "account %s may come from nowhere", a.Name)
	}
	for _, list := range [][]string{a.Rights.Installing, a.Rights.Running} {
		for _, word := range list {
			if !server.DBMS.Traits().Privileges && !slices.Contains(dbms.Levels, word) {
				e.fault(path+".rights", "levels: "+strings.Join(dbms.Levels, ", "), "on %s rights are given by level, and %q is none", server.DBMS.Title(), word)
			} else if !server.DBMS.IsRight(word) {
				known := append(slices.Clone(dbms.Levels), dbms.PrivilegeNames()...)
				e.fault(path+".rights", fault.DidYouMean(word, known, "levels: "+strings.Join(dbms.Levels, ", ")+"; else a privilege of the server that can be given on one database"),
					"unknown right %q", word)
			}
		}
	}
	if known := server.DBMS.Traits().LoginMethods; a.Auth != "" && !slices.Contains(known, a.Auth) {
		e.fault(path+".auth", "on "+server.DBMS.Title()+": "+strings.Join(known, " or "), "%q is no way to log in for an account here", a.Auth)
	}
	if a.RequireTLS && !server.DBMS.Traits().HostsInAccounts {
		e.fault(path+".require_tls", "write hostssl for it in the server's pg_hba.conf, and remove the key", "on %s the host-based rules say who must use TLS", server.DBMS.Title())
	}
	if a.Limits.Connections < 0 {
		e.fault(path+".limits.connections", "0 for no limit", "a limit cannot be negative")
	}
	if !a.Existing && server.Admin == nil {
		e.fault(path, "give the server an admin, or write existing: true",
			"account %s cannot be made: server %s has no administrator", a.Name, server.Name)
	}
}

func (e *Estate) validateSettings(a *App, path string) {
	files := map[string]bool{}
	for i, s := range a.Settings {
		at := fmt.Sprintf("%s.settings[%d]", path, i)
		if s.File == "" {
			e.fault(at, "write file: PATH", "a settings file has no name")
			continue
		}
		e.inside(at+".file", a, s.File)
		e.inside(at+".template", a, s.Template)
		if files[s.File] {
			e.fault(at+".file", "put all values under one entry", "the settings file %s is there twice", s.File)
		}
		files[s.File] = true
		if s.Account != "" && a.AccountOf(s).Name != s.Account {
			names := make([]string, len(a.Accounts))
			for i, account := range a.Accounts {
				names[i] = account.Name
			}
			e.fault(at+".account", fault.DidYouMean(s.Account, names, "known: "+strings.Join(names, ", ")), "app %s has no account %q", a.Name, s.Account)
		}
		for _, value := range s.Values {
			if server := e.Servers[a.Server]; value.Text.Uses("sslmode") && server != nil && server.DBMS.Traits().LocalhostIsSocket {
				e.fault(at+".values."+value.Address, "leave it out", "{sslmode} is for PostgreSQL: PHP has no such word for %s", server.DBMS.Title())
			}
			for _, key := range value.Text.Databases() {
				e.knownDatabase(at+".values."+value.Address, a, key)
			}
		}
		if len(s.Values) == 0 {
			e.fault(at, "write values: with an address and what to write there", "the settings file %s has no values", s.File)
		}
		if s.Template != "" && slices.Contains(a.Installer.Settings, s.File) {
			e.fault(at+".template", "remove one of the two", "%s cannot come from both a template and the installer", s.File)
		}
	}
	for i, file := range a.Installer.Settings {
		if !files[file] {
			e.fault(fmt.Sprintf("%s.installer.settings[%d]", path, i), "add it under settings, with the values to look for in it",
				"%s is written by the installer, but settings does not say what stands in it", file)
		}
	}
	for i, file := range a.InstallerFiles {
		e.inside(fmt.Sprintf("%s.installer_files[%d]", path, i), a, file)
	}
}

// knownDatabase makes sure that an app has a database of this name in the
// estate file.
func (e *Estate) knownDatabase(path string, a *App, key string) {
	var keys []string
	for _, d := range a.Databases {
		if d.Key == key {
			return
		}
		keys = append(keys, d.Key)
	}
	e.fault(path, fault.DidYouMean(key, keys, "write databases: with "+key+" among them"), "app %s has no database %q", a.Name, key)
}

func (e *Estate) validateOwnership(a *App, path string) {
	if a.Ownership == nil {
		return
	}
	for i, folder := range a.Ownership.Writable {
		e.inside(fmt.Sprintf("%s.writable[%d]", path, i), a, folder)
	}
}

// inside refuses a relative path that leaves the app's folder.
func (e *Estate) inside(path string, a *App, name string) {
	if name != "" && !filepath.IsAbs(name) && !filepath.IsLocal(name) {
		e.fault(path, "write an absolute path if you mean it", "%s leads out of the folder of app %s", name, a.Name)
	}
}

// validateSharing refuses that two apps use one database or account unless
// both say so.
func (e *Estate) validateSharing() {
	type use struct {
		app  *App
		path string
	}
	uses := map[string]use{}
	claim := func(a *App, what, path string) {
		key := or(a.Server, e.DefaultServer) + " " + what
		first, taken := uses[key]
		other := first
		if e.left[a.Name] != nil { // its own faults are told; the one that is at hand must not be worked on
			path, other = first.path, use{a, path}
		}
		switch {
		case !taken:
			uses[key] = use{a, path}
		case first.app == a, e.left[a.Name] != nil && e.left[first.app.Name] != nil:
		case !first.app.Shared || !a.Shared:
			e.fault(path, "choose another name, or write shared: true in both apps and give them different prefixes",
				"%s is also used by app %s (line %d)", what, other.app.Name, e.Place(other.path).Line)
		case first.app.Prefix == a.Prefix || first.app.Prefix == "" || a.Prefix == "":
			e.fault("apps."+a.Name, "write prefix: with different values", "apps %s and %s share %s and must have different prefixes", first.app.Name, a.Name, what)
		}
	}
	for _, apps := range []map[string]*App{e.Apps, e.left} {
		for _, name := range Names(apps) {
			a := apps[name]
			for _, d := range a.All() {
				if d != nil && d.Name != "" {
					claim(a, "database "+d.Name, "apps."+name+"."+d.Path()+".name")
				}
			}
			for i, account := range a.Accounts {
				if account == nil {
					continue
				}
				hosts := account.ClientHosts
				if hosts == nil { // of an app that is left out before it was completed
					hosts = []string{"localhost"}
				}
				for _, host := range hosts {
					claim(a, "account "+account.Name+"@"+host, fmt.Sprintf("apps.%s.accounts[%d].name", name, i))
				}
			}
		}
	}
}

// What a setting of PHP is called, and what of its values needs no quotes in php.ini.
var (
	phpSetting = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z0-9_]+)*$`)
	phpValue   = regexp.MustCompile(`^(>=|<=|=)?\s*[-A-Za-z0-9_.,:/+]+$`)
)

func (e *Estate) validatePHP(path string, php *PHP) {
	for _, name := range Names(php.INI) {
		at := path + ".ini." + name
		switch {
		case name == "extension" || name == "zend_extension":
			e.fault(at, "write it under extensions", "%s is no setting with a value", name)
		case !phpSetting.MatchString(name):
			e.fault(at, "write its name as php.ini has it", "no setting of PHP is called %q", name)
		case php.DropIn && !phpValue.MatchString(php.INI[name].Want):
			e.fault(at, "set it by hand, and take it out here or drop_in", "%q cannot be written into a file of PHP's by drop_in", php.INI[name].Want)
		}
	}
	if php.Scan != "" && php.Configuration == "" {
		e.fault(path+".scan", "name the folder of php.ini with configuration, too", "scan needs configuration")
	}
}
