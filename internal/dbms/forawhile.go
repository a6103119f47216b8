package dbms

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"strings"
)

// What a run makes on a server for a while says in its name what it is and under which lock it
// was made, so that it is known again where all other records of the run are lost: whoever holds
// that lock knows that the run is no longer at work. Names of accounts and of databases can only
// be given by who administers; a comment could be written by an application that owns the
// database.
const (
	forAWhile = "yellowfield_"
	// ScratchPrefix begins the names of databases that a run makes and drops again.
	ScratchPrefix = "yellowfield_scratch_"
	movePrefix    = "yellowfield_move_"
)

// tagLength and randomLength make account names as long as MySQL takes them: 32 characters.
const tagLength, randomLength = 8, 12

// tagOf is a lock's name in few letters.
func tagOf(lock string) string {
	sum := sha256.Sum256([]byte(lock))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:tagLength])
}

// AccountForAWhile is a new name for an account.
func AccountForAWhile(lock string) string { return forAWhile + tagOf(lock) + randomLetters() }

// ScratchName is a new name for a database.
func ScratchName(lock string) string { return ScratchPrefix + tagOf(lock) + randomLetters() }

func randomLetters() string { return strings.ToLower(rand.Text()[:randomLength]) }

// MarkOfMove is the name of an account on the server that an app is being moved to. It can do
// nothing, and is there until the move is through or taken back.
func MarkOfMove(lock string) string { return movePrefix + tagOf(lock) }

// IsForAWhile reports whether a name is one of these.
func IsForAWhile(name string) bool {
	short := strings.HasPrefix(name, forAWhile) && len(name) == len(forAWhile)+tagLength+randomLength
	return short || strings.HasPrefix(name, ScratchPrefix) || strings.HasPrefix(name, movePrefix) && len(name) == len(movePrefix)+tagLength
}

// MadeUnder reports whether a name was given under a lock.
func MadeUnder(name, lock string) bool {
	for _, prefix := range []string{ScratchPrefix, movePrefix, forAWhile} {
		if rest, is := strings.CutPrefix(name, prefix); is {
			return strings.HasPrefix(rest, tagOf(lock)) && (len(rest) == tagLength) == (prefix == movePrefix)
		}
	}
	return false
}
