package inspect

import "time"

// Support tells when the makers' support of a release ends or has ended, and adds a finding
// if it has. ends are the last days by release.
func (r *Report) Support(product, release string, ends map[string]string) {
	end, known := ends[release]
	if !known {
		r.Fact("support", "not known for release "+release)
		return
	}
	if time.Now().Format(time.DateOnly) <= end {
		r.Fact("support", "by its makers until "+end)
		return
	}
	r.Fact("support", "by its makers ended on "+end)
	r.Add(Finding{Kind: EndOfLife, On: product + " " + release, Evidence: "its makers' support ended on " + end,
		Remedy: "plan a newer release, or make sure that the distribution still mends this one; apps go there with yellowfield move"})
}
