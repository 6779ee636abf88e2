package read

import (
	"encoding/json"
	"strings"
	"unicode"

	"ostiarius/core/document"
	"ostiarius/core/event"
	"ostiarius/core/factor"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/words"
)

// The grammar of paths without look-ahead, so that every validator understands it: a
// segment is **, three or more dots, or text that is not all dots and has no two stars
// side by side.
const (
	pathChar       = `[^/*\\?#%\x00-\x1f\x7f-\x9f]`
	pathNoDot      = `[^./*\\?#%\x00-\x1f\x7f-\x9f]`
	segmentPattern = `(?:\.{3,}|\.*(?:\*|` + pathNoDot + `\*?)(?:` + pathChar + `\*?)*|\*\*)`
	pathPattern    = `^/(?:` + segmentPattern + `(?:/` + segmentPattern + `){0,59}/?)?$`

	// The same without stars and semicolons: one path.
	onePathChar    = `[^/*\\?#%;\x00-\x1f\x7f-\x9f]`
	onePathNoDot   = `[^./*\\?#%;\x00-\x1f\x7f-\x9f]`
	oneSegment     = `(?:\.{3,}|\.*` + onePathNoDot + onePathChar + `*)`
	onePath        = `/(?:` + oneSegment + `(?:/` + oneSegment + `){0,59}/?)?`
	goPattern      = `^` + onePath + `(?:\?(?:[A-Za-z0-9._~!$&'()*+,;=:@/?-]|%[0-9A-Fa-f]{2})*)?$`
	sourcePattern  = `^/(?:` + literalSegment + `(?:/` + literalSegment + `){0,59}/?)?$`
	literalSegment = `(?:\.{3,}|\.*` + pathNoDot + pathChar + `*)`
	prefixPattern  = `^/` + literalSegment + `(?:/` + literalSegment + `){0,59}/?$`
	hostPattern    = `^(?:\*\.)?[A-Za-z0-9_-]+(?:\.[A-Za-z0-9_-]+)*$`
	methodPattern  = "^[A-Z0-9!#$%&'*+.^_`|~-]+$"
	namePattern    = `^[A-Za-z0-9_-]{1,64}$`
	textPattern    = `[^ \t\n\v\f\r\x{85}\x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}]`
	soldPattern    = `^/(?:` + literalSegment + `(?:/` + literalSegment + `){0,59})?(?:/|/\*\*)?$`
	pointerPattern = `^(?:/(?:[^~/]|~[01])*){1,20}$`
)

// Schema returns the JSON Schema (2020-12) of the policy file, for editors that complete
// and check. What it admits can be read, but for what a schema cannot know: names that
// are declared elsewhere, two doors for the same places, networks with stray bits,
// demands that are nested or combined too much.
func Schema() []byte {
	type m = map[string]any
	type list = []any
	ref := func(name string) m { return m{"$ref": "#/$defs/" + name} }
	pattern := func(p, about string) m { return m{"type": "string", "pattern": p, "description": about} }
	text := func(about string) m { return pattern(textPattern, about) }
	object := func(about string, required list, properties m) m {
		o := m{"type": "object", "description": about, "additionalProperties": false, "properties": properties}
		if required != nil {
			o["required"] = required
		}
		return o
	}
	oneOrMany := func(item m, about string) m {
		return m{"description": about, "anyOf": list{item, m{"type": "array", "items": item, "minItems": 1, "uniqueItems": true}}}
	}
	array := func(item m, about string) m {
		return m{"type": "array", "items": item, "minItems": 1, "description": about}
	}
	orNull := func(o m) m { return m{"anyOf": list{m{"type": "null"}, o}} }
	number := func(about string) m {
		return m{"description": about, "anyOf": list{m{"const": "any"}, m{"type": "integer", "minimum": 1, "maximum": 1<<31 - 1}}}
	}
	lasts := func(about string, also ...any) m {
		return m{"description": about, "anyOf": append(also, m{"const": "forever"}, m{"type": "string", "pattern": document.DurationPattern})}
	}
	names := func(value m) m {
		return m{"type": "object", "propertyNames": m{"pattern": namePattern}, "additionalProperties": orNull(value)}
	}
	path := pattern(pathPattern, "A path such as /rota, /reports/*.pdf, /rota/** or /**/drafts/**")
	path["maxLength"] = place.MaxPattern
	host := pattern(hostPattern, "A host name, or *.name for all names below it; without it any host")
	host["maxLength"] = 253
	one := pattern(sourcePattern, "A path without *")
	one["maxLength"] = place.MaxPattern
	prefix := pattern(prefixPattern, "Where Ostiarius's own pages live; /door unless given")
	prefix["maxLength"] = place.MaxPattern
	entrance := pattern(prefixPattern, "Where the sign-in page is instead of the usual address, for those who know it")
	entrance["maxLength"] = place.MaxPattern
	name := pattern(namePattern, "A name of letters, digits, - and _")
	user := pattern(policy.UserPattern, "The name of an account")
	colour := pattern(`^#([0-9a-fA-F]{3}|[0-9a-fA-F]{6})$`, "A colour such as #8a6d1c")
	sentences := m{"type": "object", "additionalProperties": m{"type": "string"}, "propertyNames": m{"enum": words.Keys()}}
	landing := object("Where to go; the first fitting line wins", list{"go"}, m{
		"role": text("Only for this role"), "user": user, "go": ref("address"),
	})
	pointers := m{}
	for field := range event.FieldNames {
		pointers[field] = pattern(pointerPattern, "A JSON Pointer, such as /buyer/address")
	}
	proxied := pattern(proxyPattern, "The address of a server, such as http://127.0.0.1:8461")

	schema := m{
		"$schema":     "https://json-schema.org/draft/2020-12/schema",
		"title":       "Ostiarius policy",
		"description": "Who may go where on a web site",
	}
	for key, value := range object("", list{"doors"}, m{
		"site":       text("The site's name, for people"),
		"prefix":     prefix,
		"case":       m{"enum": list{"sensitive", "insensitive"}, "description": "Whether the site distinguishes letter case in paths"},
		"semicolons": m{"enum": list{"rejected", "allowed"}, "description": "What is done with addresses that have a semicolon"},
		"roles": orNull(names(object("A role", nil, m{
			"includes": oneOrMany(text("A role"), "Roles whose places are open to this one too"),
		}))),
		"keyrings": orNull(names(object("A keyring", nil, m{"realm": text("What the browser's dialogue shows")}))),
		"shared": orNull(names(object("A shared password", nil, m{
			"title": text("What it opens, for people"), "say": text("What the page says where it is asked for"),
			"lasts": lasts("How long an unlock lasts; 0 until the browser is closed", m{"const": 0}),
		}))),
		"passes": orNull(names(object("A kind of pass", nil, m{
			"title": text("What it opens, for people"), "say": text("How to ask for another one"), "go": ref("address"),
			"lasts":       lasts("How long a pass lasts; 14d unless given"),
			"counts-from": m{"enum": list{"issue", "first-use"}, "description": "From when on"},
			"downloads":   number("How many files may be downloaded; any number unless given"),
			"networks":    number("From how many networks a pass may be used within a day; 4 unless given"),
			"spread":      m{"enum": list{"note", "pause"}, "description": "What is done with a pass that is used from more"},
		}))),
		"sources": array(m{
			"oneOf": list{m{"required": list{"files"}}, m{"required": list{"proxy"}}},
			"type":  "object", "additionalProperties": false,
			"properties": m{"path": one, "host": host, "files": text("A directory, relative to the policy file"), "proxy": proxied,
				"strip-prefix": m{"type": "boolean", "description": "Leave the path of the source out of what the server receives"},
				"timeout":      ref("duration"),
				"forward-fields": array(m{"type": "string", "pattern": "^[A-Za-z0-9-]+$"},
					"Header fields that the server gets although they are usually not handed on"),
				"attachment": oneOrMany(pattern(endingPattern, "The ending of a name, such as zip"), "Files that browsers save instead of showing"),
				"cache":      ref("duration"),
				"routes": m{"description": "The routes of an application, or a file that has them",
					"oneOf": list{text("A file, relative to the policy file"), array(object("A route", list{"path"}, m{
						"path": text("Its address"),
						"data": oneOrMany(text("An address, such as /api/board or POST /api/board"), "The addresses of what it shows"),
					}), "The routes of an application")}},
				"fallback": pattern(fallbackPattern, "The file that answers for routes of an application that are no files"),
				"listing":  m{"type": "boolean", "description": "A directory without an index.html shows a list of its files"},
				"shell":    m{"const": "public", "description": "Everybody may have that file, also at routes that are closed"},
				"personal": m{
					"enum":        list{policy.PersonalVary, policy.PersonalPrivate},
					"description": "Public pages depend on who is signed in, and caches are told",
				},
				"identity": m{
					"type": "string", "pattern": "^[A-Za-z0-9._~:/-]{1,200}$",
					"description": "Sign who is calling, for a server that is known by this name",
				},
				"service-worker": m{"type": "boolean", "description": "Hand out service workers also if they could answer for Ostiarius's own pages"}},
			"dependentRequired": m{
				"strip-prefix": list{"proxy"}, "timeout": list{"proxy"}, "forward-fields": list{"proxy"}, "identity": list{"proxy"},
				"personal": list{"proxy"}, "attachment": list{"files"}, "cache": list{"files"}, "fallback": list{"files"},
				"listing": list{"files"}, "shell": list{"files", "fallback"},
			},
		}, "What stands behind the doors"),
		"unlisted": m{
			"enum":        list{"public", "signed-in", "refuse", "hide"},
			"description": "What happens where no door covers a place; signed-in unless given",
		},
		"doors": array(ref("door"), "Who may go where; the most specific door decides"),
		"landings": object("Where people are sent when they asked for no page", nil, m{
			"sign-in": array(landing, "After signing in"), "sign-out": array(landing, "After signing out"),
			"join": array(landing, "After creating an account"), "password-change": array(landing, "After changing the password"),
			"paid": array(landing, "After paying"),
		}),
		"pages": object("Pages of the site in the place of Ostiarius's own", nil, m{
			"sign-in": ref("address"), "join": ref("address"), "recover": ref("address"), "turned-away": ref("address"), "missing": ref("address"),
		}),
		"entrance": entrance,
		"origins": oneOrMany(pattern(originPattern, "An origin, such as https://desk.marram.example"),
			"Other origins whose scripts may ask who is here"),
		"looks": object("How the pages and mails that people meet look", nil, m{
			"accent": colour, "paper": colour, "ink": colour,
			"dark":    object("The colours of dark pages", nil, m{"accent": colour, "paper": colour, "ink": colour}),
			"scheme":  m{"enum": list{"both", "light", "dark"}, "description": "Whether pages are light or dark, or as whoever looks at them wants"},
			"logo":    pattern(`(?i)\.(svg|png|jpe?g|webp|gif)$`, "A file beside the policy"),
			"favicon": pattern(`(?i)\.(svg|png|ico)$`, "A file beside the policy"),
			"style":   pattern(`(?i)\.css$`, "A style sheet beside the policy, on top of the others"),
		}),
		"words": m{"description": "Sentences of the site's own, by the keys of the usual ones; or a file beside the policy that has them",
			"anyOf": list{
				pattern(`\.ya?ml$`, "The file"), object("The sentences", nil, m{"en": sentences, "de": sentences}),
			}},
		"joining": object("How people get an account by themselves, and what they have then", nil, m{
			"by": m{"enum": list{"nobody", "invitation", "approval", "anybody"}, "description": "Who may join; nobody unless given"},
			"address": m{
				"enum": list{"proven", "unproven"}, "description": "Whether the account counts only when its owner has shown to read the mail of " +
					"its address",
			},
			"grants": array(object("A role that they have", list{"role"},
				m{"role": m{"type": "string", "minLength": 1, "not": m{"const": policy.Steward}, "description": "The role"}, "for": ref("duration")}),
				"The roles of who joins"),
			"leave": m{
				"description": "How long after its owner asked an account is deleted", "anyOf": list{m{"const": "never"}, ref("duration")},
			},
			"names-rest": ref("duration"),
			"terms":      ref("address"), "privacy": ref("address"),
		}),
		"shops": oneOrMany(pattern(shopPattern, "A shop, such as https://shop.example"),
			"Addresses away from the site to which items and offers may lead"),
		"items": orNull(m{"type": "object", "description": "What a shop sells, by its names of it, and what that opens",
			"propertyNames": m{"pattern": itemPattern}, "additionalProperties": m{"allOf": list{
				object("What an item opens", nil, m{
					"title": text("What it is, for people"),
					"role":  oneOrMany(m{"allOf": list{text("A role"), m{"not": m{"const": policy.Steward}}}}, "Roles that its owner has"),
					"pass":  oneOrMany(text("A kind of pass"), "Passes that are sent to its owner"),
					"path":  oneOrMany(pattern(soldPattern, "A path without *, or one and /**"), "To what the passes are narrowed"),
					"for":   ref("duration"), "grace": ref("duration"), "go": ref("sale"),
					"after": object("The role that its owner has afterwards", list{"role"},
						m{"role": m{"allOf": list{text("A role"), m{"not": m{"const": policy.Steward}}}}, "for": ref("duration")}),
				}),
				m{"anyOf": list{m{"required": list{"role"}}, m{"required": list{"pass"}}}},
				m{"dependentRequired": m{"path": list{"pass"}, "grace": list{"role", "for"}, "after": list{"role", "for"}}},
			}}}),
		"offers": orNull(m{"type": "object", "description": "What opens doors, said to whoever is turned away there",
			"propertyNames": m{"pattern": namePattern}, "additionalProperties": m{"allOf": list{
				object("What is offered", nil, m{"say": text("What it is, and what it costs"), "go": ref("sale")}), m{"minProperties": 1},
			}}}),
		"events": object("How the events of a shop are read that has a shape of its own for them", nil, m{
			"fields": object("Where what stands, as JSON Pointers", nil, pointers),
			"types": m{
				"type": "object", "description": "The shop's words for what happened",
				"additionalProperties": m{"enum": list{"paid", "renewed", "refunded", "cancelled", "lapsed"}},
			},
		}),
		"reminders": oneOrMany(m{"type": "string", "pattern": reminderPattern}, "How long before an end people are reminded of it, such as 14d"),
		"elsewhere": orNull(m{"type": "object",
			"description":   "Where accounts may be held that people sign in with: providers of OpenID Connect",
			"propertyNames": m{"pattern": namePattern},
			"additionalProperties": object("A provider", list{"issuer", "client"}, m{
				"title": text("What people know it as"), "issuer": m{"type": "string", "pattern": issuerPattern, "description": "Its own name, " +
					"an https address, just as it writes it"},
				"client":         m{"type": "string", "pattern": wordPattern, "description": "The name of this site there"},
				"joins":          m{"type": "boolean", "description": "Whether people make accounts with it"},
				"trusts-address": m{"type": "boolean", "description": "Whether an address that is proven there and here makes the account the same"},
				"sign-out":       m{"enum": list{"there", "here"}, "description": "Whether signing out here signs out there too"},
				"scopes":         oneOrMany(m{"type": "string", "pattern": wordPattern}, "Scopes that are asked for besides"),
				"grants": array(object("A role by what the provider says", list{"claim", "holds", "role"}, m{
					"claim": m{"type": "string", "pattern": wordPattern, "description": "The name of what it says, such as groups"},
					"holds": text("What that is, or has among others"), "role": text("The role"),
				}), "Roles by what it says"),
			})}),
		"factors": object("What is asked of people beside their password", nil, m{
			"sign-in": m{
				"enum": list{"enrolled", "at-doors"}, "description": "Whether whoever has set up a second factor is asked for it when they sign " +
					"in, or only where a door asks",
			},
			"remember": m{"description": "How long a browser is not asked again at sign-in", "allOf": list{ref("duration")}},
			"stewards": m{"enum": factor.Asked, "description": "What stewards show for the console"},
			"wanted": array(object("What people with a role should have set up", list{"role", "factor"},
				m{"role": text("The role"), "factor": m{"enum": factor.Asked}}), "What people should have set up"),
			"no-keys": oneOrMany(text("A role"), "Roles that access keys never carry"),
			"reset":   m{"description": "How long a steward's reset waits", "allOf": list{ref("duration")}},
		}),
		"patrol": object("That the site is walked through by timetable", list{"every"},
			m{"every": m{"type": "string", "pattern": patrolPattern, "description": "How often, such as 24h or 7d"}}),
		"headers": m{"type": "object", "description": "Header fields on the answers of the site; one without a value is left away",
			"propertyNames":        m{"pattern": headerNamePattern, "not": m{"pattern": anyCase(ownHeaders)}},
			"additionalProperties": orNull(m{"type": "string", "pattern": headerValuePattern})},
		"checks": m{"type": "object", "description": "What a program asks itself, in its own handlers, beside the doors",
			"propertyNames":        m{"pattern": namePattern},
			"additionalProperties": ref("check")},
		"guarantees": array(ref("guarantee"), "What must always hold"),
		"sessions": object("How long sessions last; 0 is no end", nil, m{
			"idle": ref("duration"), "lifetime": ref("duration"), "remembered": ref("duration"),
			"roles": m{"description": "Other limits for people with a role; the shortest counts", "type": "object",
				"additionalProperties": object("How long they last", nil, m{
					"idle": ref("duration"), "lifetime": ref("duration"), "remembered": ref("duration"),
				})},
		}),
	}) {
		if key != "description" {
			schema[key] = value
		}
	}
	door := object("A set of places and what is asked there", list{"path", "admit"}, m{
		"path":                oneOrMany(path, "The paths; a door with several is several doors"),
		"host":                host,
		"methods":             oneOrMany(pattern(methodPattern, "A method such as GET"), "Without it any method; GET brings HEAD with it"),
		"admit":               ref("demand"),
		"ask":                 m{"enum": list{"form", "basic"}, "description": "How an account is asked for"},
		"realm":               text("The realm of ask: basic"),
		"forward-credentials": m{"type": "boolean", "description": "Hand credentials of HTTP Basic on to what is behind"},
		"otherwise": m{"description": "What happens instead of the usual answer", "anyOf": list{
			m{"const": "hide"},
			m{
				"type": "object", "additionalProperties": false, "minProperties": 1,
				"properties": m{"anonymous": ref("instead"), "refused": ref("instead")},
			},
		}},
	})
	door["dependentRequired"] = m{"realm": list{"ask"}}
	door["if"] = m{"required": list{"realm"}}
	door["then"] = m{"properties": m{"ask": m{"const": "basic"}}}
	check := object("A set of places and what a program asks there itself", list{"path", "admit"}, m{
		"path":    oneOrMany(path, "The paths"),
		"host":    host,
		"methods": oneOrMany(pattern(methodPattern, "A method such as GET"), "Without it any method; GET brings HEAD with it"),
		"admit":   ref("demand"),
	})
	guarantee := object("A promise that is proven whenever the policy is checked or loaded", list{"path"}, m{
		"path":    oneOrMany(path, "The places it is about"),
		"host":    host,
		"methods": oneOrMany(pattern(methodPattern, "A method such as GET"), "Without it any method"),
		"only":    m{"description": "Nobody gets in who does not meet this", "allOf": list{ref("demand")}},
		"always":  m{"description": "Everybody who meets this gets in", "allOf": list{ref("demand")}},
		"never":   m{"description": "No place is open to everybody", "const": "public"},
		"because": text("Why; shown when the guarantee breaks"),
	})
	guarantee["oneOf"] = list{m{"required": list{"only"}}, m{"required": list{"always"}}, m{"required": list{"never"}}}
	demands := m(policy.DemandSchemas(policy.SchemaParts{Name: name, Pattern: pattern, OneOrMany: oneOrMany}))
	demands["any"], demands["all"] = array(ref("demand"), "One of these"), array(ref("demand"), "All of these")
	schema["$defs"] = m{
		"door": door, "check": check, "guarantee": guarantee,
		"demand": m{"description": "What is asked; of a mapping, everything", "anyOf": list{
			m{"enum": list{"public", "signed-in", "nobody"}},
			m{"type": "object", "additionalProperties": false, "minProperties": 1, "properties": demands},
		}},
		"instead": m{"anyOf": list{
			m{"const": "hide"},
			object("", list{"go"}, m{"go": ref("address")}),
			object("", list{"say"}, m{"say": text("What the page says")}),
		}},
		"address": m{
			"type": "string", "pattern": goPattern, "maxLength": 2 * place.MaxPattern,
			"description": "A path on this site, written as people read it, and perhaps a query",
		},
		"sale": m{
			"description": "A path on this site, or an address of one of the shops",
			"anyOf":       list{ref("address"), m{"type": "string", "pattern": elsewherePattern}},
		},
		"duration": m{"description": "A time such as 90s, 10m, 12h or 30d", "anyOf": list{
			m{"const": 0}, m{"type": "string", "pattern": document.DurationPattern},
		}},
	}
	out, err := json.MarshalIndent(schema, "", "  ")
	if err != nil {
		panic(err) // maps of strings and numbers can be written
	}
	return append(out, '\n')
}

// anyCase returns a pattern for words in any letters, without a flag that not every
// validator has.
func anyCase(words []string) string {
	var b strings.Builder
	for i, word := range words {
		if i > 0 {
			b.WriteByte('|')
		}
		for _, r := range word {
			if unicode.IsLetter(r) {
				b.WriteString("[" + string(unicode.ToUpper(r)) + string(unicode.ToLower(r)) + "]")
			} else {
				b.WriteRune(r)
			}
		}
	}
	return "^(?:" + b.String() + ")$"
}
