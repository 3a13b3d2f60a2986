import js from "@eslint/js";
import globals from "globals";
import vue from "eslint-plugin-vue";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "node_modules", "src/api/schema.d.ts"] },
  js.configs.recommended,
  ...ts.configs.strict,
  ...vue.configs["flat/essential"],
  {
    files: ["**/*.vue", "**/*.ts"],
    languageOptions: { parserOptions: { parser: ts.parser }, globals: globals.browser },
    rules: { "no-undef": "off" },
  },
  {
    files: ["public/*.js"],
    languageOptions: { globals: { AudioWorkletProcessor: "readonly", registerProcessor: "readonly" } },
  },
);
