package postgres

// For tests that need a server, which stand outside of the package.
var (
	QuoteName = quoteName
	QuoteText = quoteText
)
