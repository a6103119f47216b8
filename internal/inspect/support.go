package inspect

import (
	"strings"
	"time"

	"yellowfield/internal/dbms"
)

// ends are when the makers of a product stop mending a release, by its first numbers
// (MariaDB, "Maintenance Policy"; MySQL, "Lifetime Support Policy"; PostgreSQL, "Versioning
// Policy"; as published in November 2026).
var ends = map[dbms.Product]map[string]string{
	dbms.MariaDB: {"10.3": "2023-05-25", "10.4": "2024-06-18", "10.5": "2025-06-24", "10.6": "2026-07-06", "10.11": "2028-02-16", "11.4": "2029-05-29", "11.8": "2028-06-04"},
	dbms.MySQL:   {"5.7": "2023-10-31", "8.0": "2026-04-30", "8.4": "2032-04-30"},
	dbms.PostgreSQL: {"11": "2023-11-09", "12": "2024-11-21", "13": "2025-11-13", "14": "2026-11-12", "15": "2027-11-11", "16": "2028-11-09",
		"17": "2029-11-08", "18": "2030-11-14"},
}

// Support tells when the makers' support of a release ends or has ended, and adds a finding
// if it has.
func (r *Report) Support(product dbms.Product, version string, now time.Time) {
	numbers := strings.SplitN(version, ".", 3)
	release := numbers[0]
	if product != dbms.PostgreSQL && len(numbers) > 1 {
		release += "." + numbers[1]
	}
	end, known := ends[product][release]
	if !known {
		r.Fact("support", "not known for release "+release)
		return
	}
	if now.Format(time.DateOnly) <= end {
		r.Fact("support", "by its makers until "+end)
		return
	}
	r.Fact("support", "by its makers ended on "+end)
	r.Add(Finding{Kind: EndOfLife, On: product.Title() + " " + release, Evidence: "its makers' support ended on " + end,
		Remedy: "plan a newer release, or make sure that the distribution still mends this one; apps go there with yellowfield move"})
}
