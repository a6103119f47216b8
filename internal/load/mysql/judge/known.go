package judge

import "strings"

// Known is what the leader knows of the tables that there are, so that it need not send
// what would come to nothing. Names are in small letters, whatever the server makes of them.
type Known struct {
	here   map[string]bool // tables and views that may be there
	innodb map[string]bool // made by the script as tables of InnoDB, and not changed since
	unsure bool            // something has run whose outcome is not known
}

// Begin takes the tables and views that are there.
func (k *Known) Begin(tables [][]string) {
	k.here, k.innodb = map[string]bool{}, map[string]bool{}
	for _, row := range tables {
		k.here[strings.ToLower(row[0])] = true
	}
}

// IsIdle reports a statement that would come to nothing but a note: DROP TABLE IF EXISTS of
// what is not there, and DISABLE KEYS on a table of InnoDB, which has no keys to switch off.
func (k *Known) IsIdle(v Verdict) bool {
	switch {
	case v.Kind == KeySwitch:
		return k.innodb[strings.ToLower(v.Tables[0])]
	case v.Kind != Definition || v.Lead.Verb != "DROP" || v.Lead.Object != "TABLE" || k.unsure || !v.Tokens.Begins("DROP", "TABLE", "IF", "EXISTS"):
		return false
	}
	for _, t := range v.Tokens {
		if t.IsPunct('.') {
			return false
		}
	}
	for _, name := range v.Tables {
		if k.here[strings.ToLower(name)] {
			return false
		}
	}
	return true
}

// Done takes in what a statement on the main session has done.
func (k *Known) Done(v Verdict) {
	for _, name := range v.Tables {
		if v.Kind != Rows && v.Kind != Indexes && v.Kind != KeySwitch {
			delete(k.innodb, strings.ToLower(name))
		}
	}
	name := strings.ToLower(v.Lead.Name.Name)
	switch makes := v.Lead.Verb == "CREATE" && (v.Lead.Object == "TABLE" || v.Lead.Object == "VIEW" || v.Lead.Object == "SEQUENCE"); {
	case makes:
		k.innodb[name] = !k.here[name] && v.Kind == Definition && v.Table != nil && strings.EqualFold(v.Table.Options.Engine, "InnoDB")
		k.here[name] = true
	case v.Kind == Anything && v.Lead.Verb != "SELECT":
		k.unsure = true
		clear(k.innodb)
	}
}
