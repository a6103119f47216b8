package discover

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/phpini"
	"yellowfield/internal/wordset"
)

// Extension is a PHP extension that the application needs, or uses where it is
// there.
type Extension struct {
	Name     string `json:"name"`
	Optional bool   `json:"optional,omitempty"` // the code asks whether it is there
	Why      string `json:"why"`
	Place    Place  `json:"place"`
}

// extensionPrefixes are beginnings of functions by their extension (PHP manual,
// "Function Reference"). Extensions that are part of every PHP are left out.
var extensionPrefixes = []struct{ prefix, extension string }{
	{"mysqli_", "mysqli"}, {"pg_", "pgsql"}, {"mb_", "mbstring"}, {"curl_", "curl"}, {"ldap_", "ldap"}, {"imap_", "imap"},
	{"bcadd", "bcmath"}, {"bcmul", "bcmath"}, {"bcdiv", "bcmath"}, {"bcsub", "bcmath"}, {"bccomp", "bcmath"}, {"gmp_", "gmp"},
	{"image", "gd"}, {"simplexml_", "simplexml"}, {"xml_parser_", "xml"}, {"openssl_", "openssl"}, {"sodium_", "sodium"},
	{"iconv", "iconv"}, {"exif_", "exif"}, {"ftp_", "ftp"}, {"bindtextdomain", "gettext"}, {"ngettext", "gettext"},
	{"finfo_", "fileinfo"}, {"posix_", "posix"}, {"apcu_", "apcu"}, {"numfmt_", "intl"}, {"collator_", "intl"}, {"grapheme_", "intl"}, {"zip_", "zip"},
}

var extensionClasses = map[string]string{
	"mysqli": "mysqli", "ziparchive": "zip", "domdocument": "dom", "simplexmlelement": "simplexml", "xmlreader": "xmlreader", "xmlwriter": "xmlwriter",
	"soapclient": "soap", "intldateformatter": "intl", "numberformatter": "intl", "collator": "intl", "normalizer": "intl", "imagick": "imagick", "finfo": "fileinfo",
}

// gdFunctions are those that begin with image and belong to gd; others do, too,
// in applications' own code.
var gdFunctions = wordset.Of("imagecreate imagecreatetruecolor imagecreatefromjpeg imagecreatefrompng imagecreatefromgif imagecreatefromstring imagepng imagejpeg imagegif imagecopyresampled imagettftext imagecolorallocate")

// extensionOf is the extension that a function or a class belongs to; empty for
// none that is told.
func extensionOf(function string) string {
	if extension, known := extensionClasses[function]; known {
		return extension
	}
	for _, row := range extensionPrefixes {
		if strings.HasPrefix(function, row.prefix) && (row.extension != "gd" || gdFunctions[function]) {
			return row.extension
		}
	}
	return ""
}

// driverExtensions belong to a family; the application needs those of its own
// family only.
var driverExtensions = map[string]string{
	"mysqli": familyMySQL, "pdo_mysql": familyMySQL, "mysqlnd": familyMySQL, "pgsql": familyPostgreSQL, "pdo_pgsql": familyPostgreSQL,
	"sqlite3": familyOther, "pdo_sqlite": familyOther, "sqlsrv": familyOther, "pdo_sqlsrv": familyOther, "oci8": familyOther,
}

// extensions collects what the application needs of PHP.
func extensions(t *tree, c *code, family string) []Extension {
	found := map[string]Extension{}
	add := func(e Extension) {
		e.Name = strings.ToLower(e.Name)
		if of, isDriver := driverExtensions[e.Name]; isDriver && family != "" && of != family || phpini.IsCompiledIn(e.Name) || e.Name == "" {
			return
		}
		if was, known := found[e.Name]; !known || was.Optional && !e.Optional {
			found[e.Name] = e
		}
	}
	var manifest struct {
		Require map[string]any `json:"require"`
		Suggest map[string]any `json:"suggest"`
	}
	const composer = "composer.json"
	if json.Unmarshal(t.read(composer, longestSettings), &manifest) == nil {
		for _, list := range []struct {
			packages map[string]any
			optional bool
		}{{manifest.Require, false}, {manifest.Suggest, true}} {
			for name := range list.packages {
				if extension, is := strings.CutPrefix(name, "ext-"); is {
					add(Extension{extension, list.optional, "composer.json names it", Place{File: composer}})
				}
			}
		}
	}
	for function, place := range c.functions {
		if extension, asked := strings.CutPrefix(function, "ext-"); asked {
			add(Extension{extension, true, "the code asks whether it is there", place})
			continue
		}
		extension := extensionOf(function)
		add(Extension{extension, c.asked[function] || c.asked["ext-"+extension], "the code uses " + function, place})
	}
	if _, uses := c.functions["pdo"]; uses {
		switch family {
		case familyMySQL:
			add(Extension{"pdo_mysql", false, "the code uses PDO", c.functions["pdo"]})
		case familyPostgreSQL:
			add(Extension{"pdo_pgsql", false, "the code uses PDO", c.functions["pdo"]})
		}
	}
	names := slices.Sorted(maps.Keys(found))
	list := make([]Extension, len(names))
	for i, name := range names {
		list[i] = found[name]
	}
	return list
}
