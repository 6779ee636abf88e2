package event

import "encoding/json"

// Schema returns the JSON Schema (2020-12) of the body of an event of ours. Other keys are passed over when it is read.
func Schema() []byte {
	type m = map[string]any
	text := func(about string) m { return m{"type": "string", "maxLength": longestText, "description": about} }
	moment := func(about string) m {
		return m{
			"description": about, "anyOf": []any{m{"type": "string", "format": "date-time"},
				m{"type": "number", "exclusiveMinimum": 0, "description": "seconds since 1970"}},
		}
	}
	schema := m{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Ostiarius event", "description": "What a shop tells of an order",
		"type": "object", "required": []any{"type", "order"},
		"properties": m{
			"type": m{"enum": Types, "description": "What happened"},
			"order": m{
				"description": "Its number in the shop",
				"anyOf":       []any{m{"type": "string", "minLength": 1, "maxLength": longestText}, m{"type": "number"}},
			},
			"buyer": m{"type": []any{"object", "null"}, "properties": m{
				"address": text("The e-mail address"), "name": text("The name"),
				"account": text("The name of the account here, if the shop knows it"), "language": text("In which the buyer reads: en or de"),
			}},
			"items": m{"type": "array", "maxItems": mostItems, "items": m{"type": "object", "required": []any{"item"}, "properties": m{
				"item": m{
					"description": "As the policy names it",
					"anyOf":       []any{m{"type": "string", "minLength": 1, "maxLength": longestText}, m{"type": "number"}},
				},
				"name":   text("As people call it"),
				"number": m{"type": "integer", "minimum": 1, "maximum": mostNumber, "description": "How many; 1 unless given"},
			}}},
			"until": moment("When what was bought ends, if the shop says so"), "at": moment("When it happened, if the shop says so"),
		},
	}
	out, err := json.MarshalIndent(schema, "", "  ")
	if err != nil {
		panic(err) // maps of strings and numbers can be written
	}
	return append(out, '\n')
}
