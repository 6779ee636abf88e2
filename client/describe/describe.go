// Package describe makes the published description of the API (OpenAPI 3.1) of the operations and types that package client declares.
package describe

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"ostiarius/client"
)

const about = `For stewards, below /door/api/v1 with their session or an access key, and for commands, over the Unix socket in the
data directory, below /api/v1. Errors are application/problem+json (RFC 9457).
A change is sent with the field X-Requested-With, of any value, and its body as application/json; from a
browser, only from the origin of the console. With a session, each change, and the export of hashes, is
answered with 403 and the code proof-needed, unless the password was entered in the last 15 minutes for the
page that asks: POST /door/prove-again takes it, as {"password": "..."}, and answers with a proof, which is
sent in the field Ostiarius-Proof. Where the console has an origin of its own, the session is enough.
`

// Document returns the description of some operations as YAML. The directory is the root of the repository, where the comments of the
// types are read. The error names what can't be described.
func Document(operations []*client.Operation, root string) ([]byte, error) {
	d := describer{comments: map[string]string{}, words: map[string][]string{}, schemas: map[string]any{}, types: map[string]reflect.Type{}}
	if err := d.read(root); err != nil {
		return nil, err
	}
	paths := map[string]yaml.MapSlice{}
	for _, o := range operations {
		if paths[o.Path] == nil && o.Under != "" {
			paths[o.Path] = yaml.MapSlice{{Key: "servers", Value: []any{map[string]any{"url": o.Under}}}}
		}
		paths[o.Path] = append(paths[o.Path], yaml.MapItem{Key: strings.ToLower(o.Method), Value: d.operation(o)})
	}
	if d.err != nil {
		return nil, d.err
	}
	problem := d.schema(reflect.TypeFor[client.Problem](), "")
	return yaml.MarshalWithOptions(yaml.MapSlice{
		{Key: "openapi", Value: "3.1.0"},
		{Key: "info", Value: yaml.MapSlice{{Key: "title", Value: "Ostiarius administration"}, {Key: "version", Value: "1"},
			{Key: "description", Value: about}}},
		{Key: "servers", Value: []any{map[string]any{"url": "/door/api/v1"}}},
		{Key: "paths", Value: sorted(paths)},
		{Key: "components", Value: yaml.MapSlice{
			{Key: "responses", Value: map[string]any{"Problem": answer("What is wrong", "application/problem+json", problem)}},
			{Key: "schemas", Value: sorted(d.schemas)},
		}},
	}, yaml.UseLiteralStyleIfMultiline(true))
}

func sorted[T any](m map[string]T) (all yaml.MapSlice) {
	for _, key := range slices.Sorted(maps.Keys(m)) {
		all = append(all, yaml.MapItem{Key: key, Value: m[key]})
	}
	return all
}

func answer(description, media string, schema any) yaml.MapSlice {
	return yaml.MapSlice{
		{Key: "description", Value: description},
		{Key: "content", Value: map[string]any{media: map[string]any{"schema": schema}}},
	}
}

// A describer gathers the schemas that operations need.
type describer struct {
	comments map[string]string   // of a type, and of a field, as package/path.Type.Field
	words    map[string][]string // that a type may be: its constants
	schemas  map[string]any
	types    map[string]reflect.Type // of the schemas
	err      error
}

func (d *describer) operation(o *client.Operation) yaml.MapSlice {
	said := yaml.MapSlice{{Key: "summary", Value: o.Summary}}
	var parameters []any
	for _, f := range reflect.VisibleFields(o.In) {
		in, name := "path", f.Tag.Get("path")
		if name == "" {
			in, name = "query", f.Tag.Get("query")
		}
		if name == "" || f.Anonymous {
			continue
		}
		p := yaml.MapSlice{{Key: "name", Value: name}, {Key: "in", Value: in}}
		if _, required := f.Tag.Lookup("required"); required || in == "path" {
			p = append(p, yaml.MapItem{Key: "required", Value: true})
		}
		if text := d.comments[d.owner(o.In, f)+"."+f.Name]; text != "" {
			p = append(p, yaml.MapItem{Key: "description", Value: text})
		}
		parameters = append(parameters, append(p, yaml.MapItem{Key: "schema", Value: d.schema(f.Type, f.Tag)}))
	}
	if len(parameters) > 0 {
		said = append(said, yaml.MapItem{Key: "parameters", Value: parameters})
	}
	if o.HasBody() {
		said = append(said, yaml.MapItem{Key: "requestBody", Value: yaml.MapSlice{
			{Key: "required", Value: true},
			{Key: "content", Value: map[string]any{"application/json": map[string]any{"schema": d.schema(o.Body(), "")}}},
		}})
	}
	responses := map[string]any{}
	for _, status := range o.Fails {
		responses[strconv.Itoa(status)] = map[string]any{"$ref": "#/components/responses/Problem"}
	}
	if o.Cached {
		responses["304"] = map[string]any{"description": "It is as it was"}
	}
	if o.Out == nil {
		responses[strconv.Itoa(o.Status)] = map[string]any{"description": "It is done"}
	} else {
		ok := answer("The answer", o.Media, d.schema(o.Out, ""))
		if o.Paged {
			ok = append(ok, yaml.MapItem{Key: "headers", Value: map[string]any{"Link": map[string]any{
				"description": `the next part, if there may be one, as rel="next" (RFC 8288); its address is relative to this one's`,
				"schema":      map[string]any{"type": "string"},
			}}})
		}
		responses[strconv.Itoa(o.Status)] = ok
	}
	return append(said, yaml.MapItem{Key: "responses", Value: sorted(responses)})
}

// owner is the type that has a field itself, which may be embedded in t.
func (d *describer) owner(t reflect.Type, f reflect.StructField) string {
	for _, i := range f.Index[:len(f.Index)-1] {
		t = t.Field(i).Type
	}
	return nameOf(t)
}

func nameOf(t reflect.Type) string { return t.PkgPath() + "." + t.Name() }

// schema describes a type, and what a field of it may have by its tag.
func (d *describer) schema(t reflect.Type, tag reflect.StructTag) yaml.MapSlice {
	simple := func(kind string, more ...yaml.MapItem) yaml.MapSlice {
		return append(yaml.MapSlice{{Key: "type", Value: kind}}, more...)
	}
	switch {
	case t == reflect.TypeFor[time.Time]():
		return simple("string", yaml.MapItem{Key: "format", Value: "date-time"})
	case t == reflect.TypeFor[client.File]():
		return simple("string")
	case t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Uint8: // JSON as it is
		return simple("object")
	}
	switch t.Kind() {
	case reflect.Pointer:
		return d.schema(t.Elem(), tag)
	case reflect.Slice:
		return simple("array", yaml.MapItem{Key: "items", Value: d.schema(t.Elem(), "")})
	case reflect.Map:
		return simple("object", yaml.MapItem{Key: "additionalProperties", Value: d.schema(t.Elem(), "")})
	case reflect.String:
		words := d.words[nameOf(t)]
		if tag.Get("enum") != "" {
			words = strings.Split(tag.Get("enum"), "|")
		}
		if words != nil {
			return simple("string", yaml.MapItem{Key: "enum", Value: words})
		}
		return simple("string")
	case reflect.Bool:
		return simple("boolean")
	case reflect.Int, reflect.Int64:
		if most := tag.Get("most"); most != "" {
			n, _ := strconv.Atoi(most)
			return simple("integer", yaml.MapItem{Key: "minimum", Value: 0}, yaml.MapItem{Key: "maximum", Value: n})
		}
		return simple("integer")
	case reflect.Float64:
		return simple("number")
	case reflect.Struct:
		d.define(t)
		return yaml.MapSlice{{Key: "$ref", Value: "#/components/schemas/" + t.Name()}}
	}
	d.err = fmt.Errorf("%s can't be described", t)
	return nil
}

// define adds the schema of a struct, once.
func (d *describer) define(t reflect.Type) {
	name := t.Name()
	if other, there := d.types[name]; there {
		if other != t {
			d.err = fmt.Errorf("%s and %s have one name", nameOf(t), nameOf(other))
		}
		return
	}
	d.types[name] = t
	if name == "" {
		d.err = fmt.Errorf("%s needs a name", t)
	}
	var required []string
	var properties yaml.MapSlice
	for _, f := range reflect.VisibleFields(t) {
		field, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous || field == "-" || !f.IsExported() {
			continue
		}
		if field == "" {
			d.err = fmt.Errorf("%s.%s has no name in JSON", nameOf(t), f.Name)
		}
		property := d.schema(f.Type, f.Tag)
		if omitted := strings.Contains(options, "omit"); !omitted {
			required = append(required, field)
			_, nullable := f.Tag.Lookup("null")
			if kind, _ := property[0].Value.(string); (f.Type.Kind() == reflect.Pointer || nullable) && property[0].Key == "type" {
				property[0].Value = []string{kind, "null"}
			}
		}
		if text := d.comments[d.owner(t, f)+"."+f.Name]; text != "" {
			property = append(property, yaml.MapItem{Key: "description", Value: text})
		}
		properties = append(properties, yaml.MapItem{Key: field, Value: property})
	}
	schema := yaml.MapSlice{{Key: "type", Value: "object"}}
	if text := d.comments[nameOf(t)]; text != "" {
		schema = append(schema, yaml.MapItem{Key: "description", Value: text})
	}
	if len(required) > 0 {
		schema = append(schema, yaml.MapItem{Key: "required", Value: required})
	}
	d.schemas[name] = append(schema, yaml.MapItem{Key: "additionalProperties", Value: false},
		yaml.MapItem{Key: "properties", Value: properties})
}

// read reads the comments of the types that may be described and of their fields, and their constants.
func (d *describer) read(root string) error {
	for _, dir := range []string{"client", "core"} {
		err := filepath.WalkDir(filepath.Join(root, dir), func(file string, entry fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
				return err
			}
			parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
			if err != nil {
				return err
			}
			where, err := filepath.Rel(root, filepath.Dir(file))
			in := path.Join("ostiarius", filepath.ToSlash(where)) + "."
			for _, declared := range parsed.Decls {
				if all, ok := declared.(*ast.GenDecl); ok {
					for _, spec := range all.Specs {
						switch is := spec.(type) {
						case *ast.TypeSpec:
							d.readType(in+is.Name.Name, all.Doc, is)
						case *ast.ValueSpec:
							d.readConstant(in, all.Tok, is)
						}
					}
				}
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (d *describer) readType(name string, doc *ast.CommentGroup, is *ast.TypeSpec) {
	add := func(name string, groups ...*ast.CommentGroup) {
		for _, g := range groups {
			if text := strings.Join(strings.Fields(g.Text()), " "); text != "" {
				d.comments[name] = text
			}
		}
	}
	add(name, doc, is.Doc)
	if of, ok := is.Type.(*ast.StructType); ok {
		for _, f := range of.Fields.List {
			for _, n := range f.Names {
				add(name+"."+n.Name, f.Doc, f.Comment)
			}
		}
	}
}

func (d *describer) readConstant(in string, tok token.Token, is *ast.ValueSpec) {
	of, typed := is.Type.(*ast.Ident)
	if tok != token.CONST || !typed {
		return
	}
	for _, v := range is.Values {
		if text, ok := v.(*ast.BasicLit); ok && text.Kind == token.STRING {
			word, _ := strconv.Unquote(text.Value)
			d.words[in+of.Name] = append(d.words[in+of.Name], word)
		}
	}
}
