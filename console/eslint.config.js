// What is looked for besides types: hooks that run or depend on something in a way that React does not see, and elements that cannot be
// used with a keyboard or a screen reader.
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "src/schema.ts"] },
  {
    files: ["src/**/*.{ts,tsx}"],
    languageOptions: { parser: tseslint.parser, parserOptions: { ecmaFeatures: { jsx: true } } },
    plugins: { "react-hooks": hooks, "jsx-a11y": a11y },
    rules: {
      ...a11y.configs.strict.rules,
      "jsx-a11y/no-autofocus": "off", // what somebody has opened takes the focus
      "jsx-a11y/no-noninteractive-tabindex": ["error", { roles: ["region"] }], // what scrolls takes it, too
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "error",
    },
  },
);
