package main

import (
	"os"
	"strings"
	"testing"
)

// The console's types are those of the description.
func TestTypesAreFresh(t *testing.T) {
	text, err := os.ReadFile("../../" + description)
	if err != nil {
		t.Fatal(err)
	}
	want, err := typesOf(text)
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("../src/schema.ts")
	if err != nil || string(got) != want {
		t.Errorf("console/src/schema.ts is stale (%v); run: go run ./console/types > console/src/schema.ts", err)
	}
}

func TestTypesOf(t *testing.T) {
	got, err := typesOf([]byte(`
components:
  schemas:
    Lamp:
      type: object
      required: [name, lit, hours]
      properties:
        name: { type: string, description: "as written */ on it" }
        lit: { type: [string, "null"], format: date-time }
        state: { type: string, enum: [on, off] }
        hours: { type: array, items: { type: integer } }
        states: { type: array, items: { type: string, enum: [on, off] } }
        rooms: { type: array, items: { $ref: "#/components/schemas/Room" } }
        counts: { type: object, additionalProperties: { type: number } }
        at: { type: object, required: [x], properties: { x: { type: boolean }, y: { type: string } } }
`))
	if err != nil {
		t.Fatal(err)
	}
	want := `
export interface Lamp {
  /** as written * / on it */
  name: string;
  lit: string | null;
  state?: "on" | "off";
  hours: number[];
  states?: ("on" | "off")[];
  rooms?: Room[];
  counts?: Record<string, number>;
  at?: { x: boolean; y?: string };
}
`
	if !strings.HasSuffix(got, want) {
		t.Errorf("got %s", got)
	}
	for _, bad := range []string{"{ type: object }", "{ type: array }", "{ type: [string, integer] }", "{}"} {
		if got, err := typesOf([]byte("components: { schemas: { Lamp: { type: object, properties: { x: " + bad + " } } } }")); err == nil || !strings.Contains(err.Error(), "Lamp.x") {
			t.Errorf("%s: %q %v", bad, got, err)
		}
	}
}
