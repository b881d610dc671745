// What a formatter does not see: unused names, floating promises' kin, and the mistakes that templates hide.
import vue from "eslint-plugin-vue";
import typescript from "typescript-eslint";

export default typescript.config(
  { ignores: ["dist", "src/api/schema.generated.ts"] },
  ...typescript.configs.recommended,
  ...vue.configs["flat/recommended"],
  { files: ["**/*.vue"], languageOptions: { parserOptions: { parser: typescript.parser } } },
  {
    rules: {
      // The formatter's.
      "vue/max-attributes-per-line": "off",
      "vue/singleline-html-element-content-newline": "off",
      "vue/multiline-html-element-content-newline": "off",
      "vue/html-self-closing": "off",
      "vue/html-indent": "off",
      "vue/html-quotes": "off",
      "vue/html-closing-bracket-newline": "off",
      "vue/first-attribute-linebreak": "off",
      // A page is named by its room.
      "vue/multi-word-component-names": "off",
      // TypeScript says which may be left out.
      "vue/require-default-prop": "off",
      // One that is not imported shows nothing, and says so only in the browser's log.
      "vue/no-undef-components": ["error", { ignorePatterns: ["RouterLink", "RouterView"] }],
      "@typescript-eslint/no-unused-vars": ["error", { argsIgnorePattern: "^_" }],
    },
  },
);
