import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["src/api/schema.d.ts"] },
  ...ts.configs.strict,
  a11y.flatConfigs.strict,
  {
    plugins: { "react-hooks": hooks },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "error",
      "@typescript-eslint/no-explicit-any": "error",
      "jsx-a11y/label-has-associated-control": ["error", { assert: "either", depth: 4 }],
      // What scrolls can be reached and scrolled by keys.
      "jsx-a11y/no-noninteractive-tabindex": ["error", { tags: [], roles: ["tabpanel", "group"] }],
    },
  },
  {
    files: ["src/**/*.{ts,tsx}"],
    ignores: ["src/**/*.test.{ts,tsx}"],
    rules: { "max-lines-per-function": ["error", { max: 120, skipBlankLines: true, skipComments: true }] },
  },
  {
    // A test fails where something is not there.
    files: ["src/**/*.test.{ts,tsx}"],
    rules: { "@typescript-eslint/no-non-null-assertion": "off" },
  },
  {
    // The service is called in one place, so that what is fetched anew after a change is decided there.
    files: ["src/**/*.{ts,tsx}"],
    ignores: ["src/api/**"],
    rules: {
      "no-restricted-imports": [
        "error",
        {
          patterns: [
            {
              regex: "/api/client$",
              importNames: ["http", "ask"],
              message: "Calls of the service stand in src/api.",
            },
          ],
        },
      ],
      "no-restricted-globals": ["error", { name: "fetch", message: "Calls of the service stand in src/api." }],
    },
  },
);
