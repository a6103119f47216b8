package inspect

import (
	"slices"

	"yellowfield/internal/estate"
)

// Kind is the code of a finding, by which it can be chosen.
type Kind string

// What can be found.
const (
	AnonymousAccount  Kind = "anonymous-account"
	EmptyPassword     Kind = "empty-password"
	AnyHostAdmin      Kind = "any-host-administrator"
	GlobalRights      Kind = "global-rights"
	GrantOption       Kind = "grant-option"
	WildcardGrant     Kind = "wildcard-grant"
	WeakVerifier      Kind = "weak-verifier"
	ExpiredAccount    Kind = "expired-account"
	LockedAccount     Kind = "locked-account"
	HostByName        Kind = "host-by-name"
	ReachesNothing    Kind = "account-reaches-nothing"
	DefinerGone       Kind = "definer-gone"
	OpenDatabase      Kind = "open-database"
	UnreachedDatabase Kind = "unreached-database"
	CharsetDiffers    Kind = "table-charset"
	EngineDiffers     Kind = "table-engine"
	EncodedTwice      Kind = "text-encoded-twice"
	EndOfLife         Kind = "end-of-life"
	DefaultCharset    Kind = "default-charset"
	LaxSQLMode        Kind = "lax-sql-mode"
	SmallPacket       Kind = "small-packet"
	NoTLS             Kind = "no-tls"
	FunctionCreators  Kind = "function-creators"
	LittleRoom        Kind = "little-room"
	SettingWaits      Kind = "setting-waits"
	PublicConnect     Kind = "public-connect"
	PublicCreate      Kind = "public-create"
	PublicRows        Kind = "public-rows"
	TrustRule         Kind = "trust-rule"
	PeerRule          Kind = "peer-rule"
	WeakRule          Kind = "weak-rule"
	BrokenRule        Kind = "broken-rule"
	Superuser         Kind = "superuser-account"
	ServerPrograms    Kind = "server-programs"
	Preset            Kind = "preset"
	SecurityDefiner   Kind = "security-definer"
	TemplateDrift     Kind = "template-drift"
	CollationDrift    Kind = "collation-drift"
	HalfDropped       Kind = "half-dropped-database"
	LeftByRun         Kind = "left-by-a-run"
)

// kinds are how grave each is, unless the case at hand says otherwise, and why it matters.
var kinds = map[Kind]struct {
	severity estate.Severity
	why      string
}{
	AnonymousAccount:  {estate.MustFix, "Anybody who reaches the server gets in, and the row can take a named account's login away from it."},
	EmptyPassword:     {estate.MustFix, "Whoever knows the account's name gets in."},
	AnyHostAdmin:      {estate.MustFix, "An administrator's password can be tried from every host that reaches the server."},
	GlobalRights:      {estate.ShouldLook, "The rights hold on every database, those of other applications too."},
	GrantOption:       {estate.ShouldLook, "Whoever has this account can give its rights to others, and they stay when its own are taken."},
	WildcardGrant:     {estate.ShouldLook, "In a grant _ stands for any character and % for any text, so that the rights reach databases with similar names."},
	WeakVerifier:      {estate.ShouldLook, "Whoever sees what the server keeps of this password finds the password soon, and later releases refuse the method."},
	ExpiredAccount:    {estate.GoodToKnow, "Logins fail until the password is changed."},
	LockedAccount:     {estate.GoodToKnow, "It cannot log in; that may be meant."},
	HostByName:        {estate.ShouldLook, "The server does not look up names, so that the account cannot log in."},
	ReachesNothing:    {estate.GoodToKnow, "An account without rights is left over, or misses them."},
	DefinerGone:       {estate.ShouldLook, "A view, routine or trigger whose definer does not exist fails when it is used, and whoever makes an account of that name gets its rights."},
	OpenDatabase:      {estate.MustFix, "Every account of the server may read and change it, and fill the disk."},
	UnreachedDatabase: {estate.GoodToKnow, "Only administrators reach it: it is left over, or its application cannot log in."},
	CharsetDiffers:    {estate.ShouldLook, "Text that the table cannot hold is refused or lost, and joins with other tables cannot use keys."},
	EngineDiffers:     {estate.ShouldLook, "Changes to the table are not undone with their transaction, and a crash can damage it."},
	EncodedTwice:      {estate.ShouldLook, "Text that was converted twice is shown wrongly once the connection says its character set rightly."},
	EndOfLife:         {estate.GoodToKnow, "The product's makers mend it no more; a distribution may do so."},
	DefaultCharset:    {estate.ShouldLook, "A database that is made without a character set cannot hold all text."},
	LaxSQLMode:        {estate.ShouldLook, "Text that is too long, and numbers that do not fit, are cut with only a warning."},
	SmallPacket:       {estate.ShouldLook, "Longer statements of a dump, or an uploaded file, are refused and the connection is ended."},
	NoTLS:             {estate.ShouldLook, "Passwords and rows cross the network where they can be read."},
	FunctionCreators:  {estate.GoodToKnow, "Accounts without SUPER cannot make triggers and functions; an import by this program makes them all the same."},
	LittleRoom:        {estate.ShouldLook, "A server without room stops in the middle of what it does."},
	SettingWaits:      {estate.MustFix, "A setting that was meant for an import is still in force for everybody."},
	PublicConnect:     {estate.ShouldLook, "Every account of the server can log in to it, see its catalogue, and use what is open to everybody there."},
	PublicCreate:      {estate.MustFix, "Every account can make objects in the schema that others' queries look into first."},
	PublicRows:        {estate.ShouldLook, "Every account that gets into the database has these rights."},
	TrustRule:         {estate.MustFix, "Whoever comes this way gets in as any account it names, without a password."},
	PeerRule:          {estate.GoodToKnow, "An application's login by password is refused on this way, unless a rule before it decides."},
	WeakRule:          {estate.ShouldLook, "The password crosses the network in plain text, or as an MD5 sum that can be used like it."},
	BrokenRule:        {estate.MustFix, "The server cannot read this line; after the next start it lets nobody in."},
	Superuser:         {estate.ShouldLook, "It may do everything: read every database, and run programs on the server's host."},
	ServerPrograms:    {estate.ShouldLook, "It may read or write files of the server, or run programs there, which makes it a superuser."},
	Preset:            {estate.GoodToKnow, "Sessions begin with it, which changes what the same statements do."},
	SecurityDefiner:   {estate.ShouldLook, "It runs with its owner's rights for whoever calls it."},
	TemplateDrift:     {estate.ShouldLook, "Databases that are made from it get what stands in it."},
	CollationDrift:    {estate.MustFix, "Indexes were built in another order of text: rows can be missed, and duplicates get in."},
	HalfDropped:       {estate.ShouldLook, "Nobody can log in to it; what it held is lost."},
	LeftByRun:         {estate.ShouldLook, "It was meant to be there for minutes only, and holds rights or rows of an application."},
}

// Kinds lists all of them for help and validation.
func Kinds() []string {
	var names []string
	for kind := range kinds {
		names = append(names, string(kind))
	}
	slices.Sort(names)
	return names
}
