package connect

import (
	"fmt"
	"slices"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// nginxDirectories has the files of public directories given out as nginx reads their addresses: whatever the spelling, what it
// finds there is public, and no other program reads it again.
func (s *Site) nginxDirectories(c *config) {
	if s.Content == nil {
		return
	}
	c.line("# Nothing is asked about the files of public directories. This is made of the policy, so write it anew when that changes. A " +
		"location")
	c.line("# of the site for the same directory is told by nginx as a duplicate; leave it out there.")
	for _, dir := range s.openDirectories() {
		c.block("location "+dir+"/", func() {
			c.line("auth_request off;")
			for _, directive := range s.Content {
				c.line("%s;", directive)
			}
		})
	}
	c.line("")
}

// openDirectories are the directories of which everything is public: whatever the host and the method, and with no other door inside.
func (s *Site) openDirectories() (all []string) {
	for i := range s.Book.Doors {
		d := &s.Book.Doors[i]
		dir, ok := d.Path.Directory()
		if !ok || dir == "" || !isSafe(dir) || !d.IsPublic() || !d.Methods.Any() || !d.Host.Any() {
			continue
		}
		if !slices.ContainsFunc(s.Book.Doors, func(other policy.Door) bool {
			relation := d.Set.Relate(other.Set)
			return !other.IsPublic() && relation != place.Apart && relation != place.Inside
		}) {
			all = append(all, dir)
		}
	}
	return all
}

// How files are given out, and nothing else: no other program is asked.
var contentDirectives = []string{
	"root", "index", "try_files", "autoindex", "charset", "charset_types", "default_type", "etag", "expires", "if_modified_since",
	"max_ranges",
	"gzip", "gzip_comp_level", "gzip_min_length", "gzip_proxied", "gzip_static", "gzip_types", "gzip_vary", "add_header", "log_not_found",
	"access_log", "sendfile", "tcp_nopush", "aio", "directio", "open_file_cache", "open_file_cache_errors", "open_file_cache_min_uses",
	"open_file_cache_valid", "disable_symlinks",
}

// leadsOut says what is wrong with a directive by which a file outside of the directory could be given out: nginx would ask about the
// address as it was received, which is public, and not about that to which it leads. "" for nothing.
func leadsOut(name, text string) string {
	words := strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(blank+`"'`, r) })[1:]
	if name != "root" && name != "index" && name != "try_files" {
		return ""
	}
	if len(words) == 0 {
		return "it says nothing"
	}
	for _, word := range words {
		if rest, ok := strings.CutPrefix(word, "$uri"); strings.Contains(rest, "$") || ok && rest != "" && rest[0] != '/' && rest[0] != '.' {
			return "a variable in it could be a stranger's; only $uri is taken"
		}
		if strings.Contains(word, "..") || name == "index" && strings.HasPrefix(word, "/") || name == "root" && strings.Contains(word, "$") {
			return "it leads out of the directory"
		}
	}
	if last := words[len(words)-1]; name == "try_files" && (len(words) < 2 || !strings.HasPrefix(last, "=")) {
		return "it ends with another address; end it with =404"
	} else if name == "try_files" &&
		slices.ContainsFunc(words[:len(words)-1], func(word string) bool { return !strings.HasPrefix(word, "$uri") }) {
		return "it leads out of the directory; begin each word with $uri"
	}
	return ""
}

// What stands between the words of a configuration of nginx.
const blank = " \t\r\n"

// ParseContent reads the directives of a file for Site.Content. The error names one that does not only give out files.
func ParseContent(text string) (all []string, err error) {
	var directive strings.Builder
	quote := rune(0)
	comment := false
	end := func() error {
		text := strings.Trim(directive.String(), blank)
		directive.Reset()
		name := text
		if i := strings.IndexAny(text, blank); i >= 0 {
			name = text[:i]
		}
		if !slices.Contains(contentDirectives, name) {
			return fmt.Errorf("%q is none of the directives of nginx that only give out files, such as root, index and expires; pages that a "+
				"program answers are asked about, so leave --content away for them", name)
		}
		if why := leadsOut(name, text); why != "" {
			return fmt.Errorf("%s: %s", name, why)
		}
		all = append(all, text)
		return nil
	}
	for _, r := range text {
		before := directive.String()
		begins := strings.TrimRight(before, blank) != before || before == "" // a word
		switch {
		case comment:
			comment = r != '\n'
			continue
		case r < 0x20 && !strings.ContainsRune(blank, r) || r == '\\':
			return nil, fmt.Errorf("a control character or backslash in the directives; write them without")
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case (r == '"' || r == '\'') && !begins: // which nginx takes as it stands
			return nil, fmt.Errorf("a quotation mark within a word of the directives; write the whole word in quotation marks")
		case r == '"' || r == '\'':
			quote = r
		case r == '#' && begins:
			comment = true
			continue
		case r == '{' || r == '}':
			return nil, fmt.Errorf("a block in the directives; only simple ones are taken, such as root, index and expires")
		case r == ';':
			if err := end(); err != nil {
				return nil, err
			}
			continue
		}
		directive.WriteRune(r)
	}
	if left := strings.Trim(directive.String(), blank); quote != 0 || left != "" {
		return nil, fmt.Errorf("the last directive has no end: %q", left)
	}
	if all == nil {
		return nil, fmt.Errorf("there is no directive; write at least root")
	}
	return all, nil
}
