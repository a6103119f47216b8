// Package website asks an application's web site for a path, to compare its answer with
// that for a path which cannot be there.
//
// What a site answers is compared, and never shown or followed. The package must never
// know what the paths are for.
package website

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"
)

const (
	patience = 5 * time.Second
	longest  = 64 << 10 // of an answer that is looked at
)

// Answer is what a site says to a request.
type Answer struct {
	Status   int
	location string
	body     [sha256.Size]byte
}

var client = &http.Client{
	Timeout:       patience,
	Transport:     &http.Transport{DisableKeepAlives: true},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// Ask asks for a path below a site's address. The path's own name does not count in the
// answer.
func Ask(ctx context.Context, site, below string) (Answer, error) {
	base, err := url.Parse(site)
	if err != nil {
		return Answer{}, err
	}
	target := base.JoinPath(below)
	if strings.HasSuffix(below, "/") && !strings.HasSuffix(target.Path, "/") {
		target.Path += "/"
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, target.String(), nil)
	if err != nil {
		return Answer{}, err
	}
	request.Header.Set("User-Agent", "yellowfield")
	response, err := client.Do(request)
	if err != nil {
		var spoken *url.Error
		if errors.As(err, &spoken) { // it repeats the address
			err = spoken.Err
		}
		return Answer{}, err
	}
	defer response.Body.Close()
	content, err := io.ReadAll(io.LimitReader(response.Body, longest))
	if err != nil {
		return Answer{}, err
	}
	plain := strings.NewReplacer(target.EscapedPath(), "", target.Path, "", path.Base(target.EscapedPath()), "", path.Base(target.Path), "")
	return Answer{response.StatusCode, plain.Replace(response.Header.Get("Location")), sha256.Sum256([]byte(plain.Replace(string(content))))}, nil
}

// AskForNothing asks for a path that cannot be there, beside another one.
func AskForNothing(ctx context.Context, site, beside string) (Answer, error) {
	end := ""
	if strings.HasSuffix(beside, "/") {
		end = "/"
	}
	name := strings.ToLower(rand.Text()) + path.Ext(strings.TrimSuffix(beside, "/"))
	return Ask(ctx, site, path.Join(path.Dir(strings.TrimSuffix(beside, "/")), name)+end)
}

// Difference says how an answer differs from another; empty where it does not.
func (a Answer) Difference(other Answer) string {
	switch {
	case a.Status != other.Status:
		return fmt.Sprintf("status %d, and %d for a name that cannot be there", a.Status, other.Status)
	case a.location != other.location:
		return fmt.Sprintf("status %d with another target than for a name that cannot be there", a.Status)
	case a.body != other.body:
		return fmt.Sprintf("status %d with another page than for a name that cannot be there", a.Status)
	}
	return ""
}
