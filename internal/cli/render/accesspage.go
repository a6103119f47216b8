package render

import (
	"bytes"
	"crypto/sha256"
	_ "embed" // the parts of the page
	"encoding/base64"
	"html/template"
	"strings"
	"time"

	"yellowfield/internal/access"
)

var (
	//go:embed access.html
	accessHTML string
	//go:embed access.css
	accessCSS string
	//go:embed access.js
	accessJS string

	accessPage = template.Must(template.New("access").Parse(accessHTML))
)

type accessRow struct{ Account, Database, Server, Rights, By, Unexpected, Logins string }

// AccessPage is a page of its own about who can do what: it loads nothing, and its policy
// lets only its own style and script work (Content Security Policy Level 3), whatever the
// names from the servers are.
func AccessPage(estate string, report access.Report, when time.Time) ([]byte, error) {
	data := struct {
		Estate, When, Counts  string
		Unseen, Columns       []string
		Rows                  []accessRow
		Style                 template.CSS
		Script                template.JS
		StyleHash, ScriptHash template.HTMLAttr
	}{
		Estate: shown(estate), When: when.UTC().Format("2006-01-02 15:04 UTC"), Counts: accessCounts(report.Cells),
		Columns: []string{"Account", "Database", "Server", "Rights", "Through", "Remarks"},
		Style:   template.CSS(accessCSS), Script: template.JS(accessJS), // ours, and no one else's
		StyleHash: policyHash(accessCSS), ScriptHash: policyHash(accessJS),
	}
	for _, unseen := range report.Unseen {
		data.Unseen = append(data.Unseen, shown(unseen))
	}
	for _, c := range report.Cells {
		data.Rows = append(data.Rows, accessRow{shown(c.Account), shown(c.Database), c.Server, shown(c.Rights()), shown(strings.Join(c.By, "; ")), shown(c.Unexpected), shown(c.Logins)})
	}
	var page bytes.Buffer
	err := accessPage.Execute(&page, data)
	return page.Bytes(), err
}

func policyHash(text string) template.HTMLAttr {
	sum := sha256.Sum256([]byte(text))
	return template.HTMLAttr("sha256-" + base64.StdEncoding.EncodeToString(sum[:]))
}
