package settings

import (
	"regexp"
	"slices"
	"strings"
)

// sampleWords are the words in a file's name that say that it is there to be
// copied.
var sampleWords = strings.Fields("sample example dist default defaults template tmpl tpl skel skeleton blank empty orig new ejemplo exemple exemplo esempio beispiel vorlage muster modelo modele")

var nameWord = regexp.MustCompile(`[A-Za-z]+`)

// PlainName is the name that the copy of a sample gets: config.php for
// config.sample.php, sample-config.php or config.php.dist. isSample is false,
// and the name unchanged, for a file that is no sample by its name.
func PlainName(name string) (plain string, isSample bool) {
	if m := filledIn.FindStringSubmatch(name); m != nil {
		return m[1], true
	}
	for _, at := range nameWord.FindAllStringIndex(name, -1) {
		word := strings.ToLower(name[at[0]:at[1]])
		if !slices.Contains(sampleWords, word) {
			for _, joined := range []string{"sample", "example"} { // sampleconfig.php, ConfigSample.php
				if rest, is := strings.CutPrefix(word, joined); is {
					return name[:at[0]] + name[at[1]-len(rest):], true
				}
				if rest, is := strings.CutSuffix(word, joined); is {
					return name[:at[0]+len(rest)] + name[at[1]:], true
				}
			}
			continue
		}
		before, after := name[:at[0]], name[at[1]:]
		switch { // the mark between goes with the word
		case before != "" && strings.ContainsAny(before[len(before)-1:], ".-_"):
			before = before[:len(before)-1]
		case after != "" && strings.ContainsAny(after[:1], ".-_"):
			after = after[1:]
		}
		plain := before + after
		if m := forSystem.FindStringSubmatch(plain); m != nil { // config.ini.example-linux
			plain = m[1]
		}
		if plain == "env" {
			plain = ".env"
		}
		if plain != "" && !onlyExtension[plain] {
			return plain, true
		}
	}
	return name, false
}

// filledIn is the name of a template as those of configure scripts are called.
var filledIn = regexp.MustCompile(`(?i)^(.+\.(?:php|inc|ini|conf|cfg|ya?ml|json|xml|env))\.in$`)

// forSystem is the name of a sample that there is for each system.
var forSystem = regexp.MustCompile(`(?i)^(.+\.(?:php|inc|ini|conf|cfg|ya?ml|json|xml|env))[-_.](?:linux|unix|bsd|windows|win)$`)

// onlyExtension is what would be left of a file that is called by the sample
// word alone: default.php.
var onlyExtension = map[string]bool{"php": true, "inc.php": true, "inc": true, "ini": true, "yml": true, "yaml": true, "json": true, "xml": true, "conf": true, "cfg": true, "sql": true}
