import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

const colour = "/(^|[^&\\w])#([0-9a-fA-F]{3,4}|[0-9a-fA-F]{6}|[0-9a-fA-F]{8})\\b|rgba?\\(|hsla?\\(/";
const message = "Colours are roles of the theme: see kit/theme.ts.";

export default ts.config(
  { ignores: ["dist", "testing", "src/api/schema.d.ts"] },
  js.configs.recommended,
  ...ts.configs.strict,
  { plugins: { "react-hooks": hooks }, rules: hooks.configs.recommended.rules },
  { ...a11y.flatConfigs.recommended, rules: { ...a11y.flatConfigs.recommended.rules, "jsx-a11y/no-autofocus": "off", "jsx-a11y/no-noninteractive-tabindex": "off" } }, // a list that scrolls must be reached by keys
  {
    files: ["src/**"], ignores: ["src/kit/theme.ts"],
    rules: { "no-restricted-syntax": ["error", { selector: `Literal[value=${colour}]`, message }, { selector: `TemplateElement[value.raw=${colour}]`, message }] },
  },
);
