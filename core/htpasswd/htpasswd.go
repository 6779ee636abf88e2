// Package htpasswd reads and writes files of names and password hashes, one on each line,
// as web servers keep them for HTTP Basic.
package htpasswd

import (
	"bufio"
	"bytes"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/GehirnInc/crypt"
	"github.com/GehirnInc/crypt/apr1_crypt"
	"github.com/GehirnInc/crypt/sha256_crypt"
	"github.com/GehirnInc/crypt/sha512_crypt"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/text/unicode/norm"

	"ostiarius/core/pattern"
	"ostiarius/core/secret"
)

// A Line is one entry of a file.
type Line struct {
	Number int // counted from 1
	Name   string
	Hash   string
	Kind   string // "bcrypt", "SHA-256-crypt", "SHA-512-crypt", "apr1", "SHA-1"
	Weak   bool   // cheap to guess for somebody who has the file
	Err    error  // why the line cannot be taken
}

// MaxSize is the largest file that is read, in bytes.
const MaxSize = 16 << 20

// Read reads a file. Empty lines and lines that begin with # are left out. Each line that
// cannot be taken has an error; none of them shows a hash or a password.
func Read(text []byte) []Line {
	var lines []Line
	seen := map[string]int{}
	scanner := bufio.NewScanner(bytes.NewReader(bytes.TrimPrefix(text, []byte("\ufeff"))))
	scanner.Buffer(nil, MaxSize)
	for number := 1; scanner.Scan(); number++ {
		row := strings.TrimRight(scanner.Text(), "\r")
		if strings.TrimSpace(row) == "" || strings.HasPrefix(row, "#") {
			continue
		}
		l := read(row)
		l.Number = number
		if first, twice := seen[l.Name]; twice && l.Err == nil {
			l.Err = fmt.Errorf("the name stands in line %d already", first)
		}
		seen[l.Name] = number
		lines = append(lines, l)
	}
	return lines
}

func read(row string) (l Line) {
	name, hash, ok := strings.Cut(row, ":")
	if !ok {
		l.Err = errors.New("there is no colon between name and hash")
		return l
	}
	if l.Name, l.Err = Name(name); l.Err != nil {
		return l
	}
	hash, _, _ = strings.Cut(hash, ":") // some files have further fields
	l.Kind, l.Weak, l.Err = kindOf(hash)
	if l.Err == nil {
		l.Hash = hash
	}
	return l
}

// Name returns a user-id in the form in which it is compared (NFC), or why it is none (RFC
// 7617, section 2).
func Name(name string) (string, error) {
	switch {
	case !utf8.ValidString(name) || strings.ContainsFunc(name, unicode.IsControl):
		return "", errors.New("the name has control characters, or is not in UTF-8")
	case name == "" || strings.TrimSpace(name) != name:
		return "", errors.New("the name is empty, or has spaces at an end")
	case strings.Contains(name, ":"):
		return "", errors.New("the name has a colon, which HTTP Basic does not allow")
	case len(name) > 200:
		return "", errors.New("the name is longer than 200 bytes")
	}
	return norm.NFC.String(name), nil
}

var (
	bcryptForm = pattern.New(`^\$2[aby]\$([0-9]{2})\$[./A-Za-z0-9]{53}$`)
	shaForm    = pattern.New(`^\$([56])\$(?:rounds=([0-9]{1,9})\$)?[^$:]{0,16}\$([./A-Za-z0-9]+)$`)
	apr1Form   = pattern.New(`^\$apr1\$[^$:]{0,8}\$[./A-Za-z0-9]{22}$`)
	sha1Form   = pattern.New(`^\{SHA\}[A-Za-z0-9+/]{27}=$`)
	desForm    = pattern.New(`^[./A-Za-z0-9]{13}$`)
)

// The most work that a hash may ask for: a file could otherwise stop the service.
const (
	mostRounds     = 1_000_000
	mostBcryptCost = 14
)

// kindOf returns what kind of hash it is, and whether it is weak by today's measure.
func kindOf(hash string) (kind string, weak bool, err error) {
	if m := bcryptForm.FindStringSubmatch(hash); m != nil {
		cost, _ := strconv.Atoi(m[1])
		if cost < 4 || cost > mostBcryptCost {
			return "", false, fmt.Errorf("bcrypt with a cost of %d is not taken; 4 to %d are", cost, mostBcryptCost)
		}
		return "bcrypt", cost < 10, nil
	}
	if m := shaForm.FindStringSubmatch(hash); m != nil {
		rounds := 5000
		if m[2] != "" {
			rounds, _ = strconv.Atoi(m[2])
		}
		length, kind := 43, "SHA-256-crypt"
		if m[1] == "6" {
			length, kind = 86, "SHA-512-crypt"
		}
		switch {
		case len(m[3]) != length:
			return "", false, errors.New("the hash is cut off, or too long")
		case rounds < 1000 || rounds > mostRounds:
			return "", false, fmt.Errorf("%s with %d rounds is not taken; 1,000 to 1,000,000 are", kind, rounds)
		}
		return kind, rounds < 100_000, nil
	}
	switch {
	case apr1Form.MatchString(hash):
		return "apr1", true, nil
	case sha1Form.MatchString(hash):
		return "SHA-1", true, nil
	case strings.HasPrefix(hash, "$") || strings.HasPrefix(hash, "{"):
		return "", false, errors.New("this kind of hash is not known; bcrypt, SHA-256-crypt, SHA-512-crypt, apr1 and {SHA} are")
	case desForm.MatchString(hash):
		return "", false, errors.New("a hash of DES, or a password in plain text: DES hashes are broken in hours and passwords are not " +
			"kept; set a new one")
	}
	return "", false, errors.New("a password in plain text; passwords are kept as hashes only; set it anew")
}

// MaxPassword is the longest password, in bytes, that is compared with a hash of these kinds: some
// take the longer the longer the password is, and no program that writes such files takes more.
const MaxPassword = 255

// Verify reports whether a password is the one that was hashed, in any of the kinds, or as
// secret.Hash does it.
func Verify(hash, password string) bool {
	if strings.HasPrefix(hash, "$argon2id$") {
		return secret.Verify(hash, password)
	}
	kind, _, err := kindOf(hash)
	if err != nil || len(password) > MaxPassword {
		return false
	}
	password = norm.NFC.String(password)
	var c crypt.Crypter
	switch kind {
	case "bcrypt":
		return bcrypt.CompareHashAndPassword([]byte(hash), []byte(password)) == nil
	case "SHA-1":
		sum := sha1.Sum([]byte(password))
		return subtle.ConstantTimeCompare([]byte(base64.StdEncoding.EncodeToString(sum[:])), []byte(hash[5:])) == 1
	case "SHA-256-crypt":
		c = sha256_crypt.New()
	case "SHA-512-crypt":
		c = sha512_crypt.New()
	case "apr1":
		c = apr1_crypt.New()
	}
	return c.Verify(hash, []byte(password)) == nil
}

// Kind says in a word what kind a kept hash is, and whether it is weak.
func Kind(hash string) (kind string, weak bool) {
	if strings.HasPrefix(hash, "$argon2id$") {
		return "argon2id", false
	}
	kind, weak, _ = kindOf(hash)
	return kind, weak
}

// Class returns what hashes have in common that cost the same: their kind and what they ask for.
func Class(hash string) string {
	if kind, asks, ok := secret.Asks(hash); ok {
		return fmt.Sprint(kind, asks)
	}
	kind, _, _ := kindOf(hash)
	asks := ""
	if m := bcryptForm.FindStringSubmatch(hash); m != nil {
		asks = m[1]
	} else if m := shaForm.FindStringSubmatch(hash); m != nil {
		asks = m[2]
	}
	return kind + " " + asks
}
