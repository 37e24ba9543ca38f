import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "src/api/schema.ts", "src/api/kinds.ts"] },
  ...tseslint.configs.recommended,
  hooks.configs.flat["recommended-latest"],
  // The rule warns of what the React compiler would skip; the compiler is not used here.
  { rules: { "react-hooks/incompatible-library": "off" } },
  // Prettier breaks code at 120, and leaves comments and strings as they are.
  { rules: { "max-len": ["error", 120] } },
);
