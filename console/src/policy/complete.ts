import type { CompletionContext, CompletionResult } from "@codemirror/autocomplete";

// Completion for policies. What may stand somewhere is read off the nearest key before
// the cursor and the top-level key above it; the words are those of the JSON Schema.

interface Schema {
  properties: Record<string, { description?: string; enum?: string[]; properties?: Record<string, unknown> }>;
  $defs: Record<string, { properties?: Record<string, unknown>; anyOf?: { enum?: string[]; properties?: Record<string, unknown> }[] }>;
}

export function completer(schema: Schema, roles: string[]) {
  const door = Object.keys(schema.$defs.door.properties ?? {});
  const demand = Object.keys(schema.$defs.demand.anyOf?.[1].properties ?? {});
  const words = schema.$defs.demand.anyOf?.[0].enum ?? [];
  const keys = (names: string[]) => names.map((n) => ({ label: n + ": ", displayLabel: n, type: "property" }));
  const values = (names: string[]) => names.map((n) => ({ label: n, type: "enum" }));

  const optionsFor = (key: string | undefined, top: string | undefined) => {
    switch (key) {
      case "role":
      case "includes":
        return values(roles);
      case "admit":
      case "any":
      case "all":
      case "only":
        return [...values(words), ...keys(demand)];
      case "ask":
        return values(["form", "basic"]);
      case "otherwise":
        return [...values(["hide"]), ...keys(["anonymous", "refused"])];
      case "anonymous":
      case "refused":
        return [...values(["hide"]), ...keys(["go", "say"])];
      case "methods":
        return values(["GET", "POST", "PUT", "PATCH", "DELETE"]);
    }
    if (key && schema.properties[key]?.enum) return values(schema.properties[key].enum);
    switch (top) {
      case undefined:
        return keys(Object.keys(schema.properties));
      case "doors":
        return keys([...door, ...demand]);
      case "sources":
        return keys(["path", "host", "files", "proxy"]);
      default:
        return keys(Object.keys(schema.properties[top]?.properties ?? {}));
    }
  };

  return (context: CompletionContext): CompletionResult | null => {
    const word = context.matchBefore(/[\w-]*/);
    if (!word || (word.from === word.to && !context.explicit)) return null;
    const line = context.state.doc.lineAt(context.pos);
    const before = line.text.slice(0, word.from - line.from);
    if (before.includes("#")) return null;
    // A value stands right behind its key, or in the list behind it.
    const key = /([\w-]+):\s*(?:\[[^\]]*|\{\s*)?$/.exec(before)?.[1];
    let top: string | undefined;
    if (/^\s/.test(line.text) || before !== "")
      for (let n = line.number; n >= 1 && !top; n--) top = /^([\w-]+):/.exec(context.state.doc.line(n).text)?.[1];
    return { from: word.from, options: optionsFor(key, top), validFor: /^[\w-]*$/ };
  };
}
