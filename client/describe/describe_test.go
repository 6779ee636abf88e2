package describe

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"ostiarius/client"
)

const (
	root = "../.."
	file = root + "/service/face/api/openapi.yaml"
)

var update = flag.Bool("update", false, "write the description anew")

// The description that the service hands out is the one that the operations make. `make description` writes it.
func TestDescriptionIsMadeOfTheOperations(t *testing.T) {
	made, err := Document(client.Operations(), root)
	if err != nil {
		t.Fatal(err)
	}
	if *update {
		if err := os.WriteFile(file, made, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if there, err := os.ReadFile(file); err != nil || !bytes.Equal(there, made) {
		t.Errorf("service/face/api/openapi.yaml isn't what the operations say; `make description` writes it (%v)", err)
	}
}

// What was published stays: each path, parameter, status and field, with its type.
func TestPublishedStays(t *testing.T) {
	published, now := load(t, "testdata/published.yaml"), load(t, file)
	before, after := flat(published), flat(now)
	for place, was := range before {
		if is, there := after[place]; !there {
			t.Errorf("%s is no longer described; it was %s", place, was)
		} else if is != was {
			t.Errorf("%s is %s, and was published as %s", place, is, was)
		}
	}
	if len(before) < 2000 {
		t.Errorf("only %d things were published", len(before))
	}
}

func load(t *testing.T, file string) map[string]any {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var document map[string]any
	if err := yaml.Unmarshal(text, &document); err != nil {
		t.Fatal(err)
	}
	return document
}

// flat says of each thing that a program may rely on what it is: one line for a parameter, a status, or a field of what is sent or
// comes back.
func flat(document map[string]any) map[string]string {
	all := map[string]string{}
	resolve := func(v any) map[string]any {
		is, _ := v.(map[string]any)
		if to, ok := is["$ref"].(string); ok {
			part := document
			for _, step := range strings.Split(strings.TrimPrefix(to, "#/"), "/") {
				part = part[step].(map[string]any)
			}
			return part
		}
		return is
	}
	var schema func(place string, v any)
	schema = func(place string, v any) {
		is := resolve(v)
		kind := fmt.Sprint(is["type"])
		if words, ok := is["enum"].([]any); ok {
			var said []string
			for _, w := range words {
				if text := fmt.Sprint(w); text != "" {
					said = append(said, text)
				}
			}
			slices.Sort(said)
			kind = fmt.Sprint("string ", said)
		}
		all[place] = kind
		required := map[string]bool{}
		names, _ := is["required"].([]any)
		for _, name := range names {
			required[fmt.Sprint(name)] = true
		}
		properties, _ := is["properties"].(map[string]any)
		for name, p := range properties {
			schema(place+"."+name, p)
			all[place+"."+name] += map[bool]string{true: ", always there", false: ""}[required[name]]
		}
		if is["items"] != nil {
			schema(place+"[]", is["items"])
		}
		if is["additionalProperties"] != nil {
			if each, ok := is["additionalProperties"].(map[string]any); ok {
				schema(place+"{}", each)
			}
		}
	}
	body := func(place string, v any) {
		content, _ := resolve(v)["content"].(map[string]any)
		for media, c := range content {
			schema(place+" "+media, c.(map[string]any)["schema"])
		}
	}
	for path, v := range document["paths"].(map[string]any) {
		item := v.(map[string]any)
		for method, v := range item {
			op, ok := v.(map[string]any)
			if !ok || method == "parameters" || method == "servers" {
				continue
			}
			place := strings.ToUpper(method) + " " + path
			common, _ := item["parameters"].([]any)
			own, _ := op["parameters"].([]any)
			for _, v := range append(slices.Clone(common), own...) {
				p := resolve(v)
				name := fmt.Sprintf("%s %v %v", place, p["in"], p["name"])
				schema(name, p["schema"])
				all[name] += map[bool]string{true: ", required", false: ""}[p["required"] == true]
			}
			body(place+" sends", op["requestBody"])
			for status, v := range op["responses"].(map[string]any) {
				all[place+" "+status] = "there"
				if status >= "400" { // all are of one kind
					all[place+" "+status] = "Problem"
					body("Problem", v)
					continue
				}
				body(place+" "+status, v)
			}
		}
	}
	return all
}

// What can't be described is said, with its type.
func TestWhatCannotBeDescribed(t *testing.T) {
	for want, in := range map[string]reflect.Type{
		"chan int": reflect.TypeFor[struct {
			Wait chan int `query:"wait"`
		}](),
		"no name": reflect.TypeFor[Nameless](),
	} {
		o := &client.Operation{Method: "POST", Path: "/x", Status: 204, In: in}
		if _, err := Document([]*client.Operation{o}, root); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v: %v", in, err)
		}
	}
}

// Nameless has a field that JSON would name by itself.
type Nameless struct{ Field string }
