// The scripts of the pages are modules for browsers; the one that copies files runs in Node.
import js from "@eslint/js";

const browser = Object.fromEntries(
  ["window", "document", "console", "navigator", "fetch", "htmx", "URL", "Image", "CustomEvent", "Event", "FormData",
   "AbortController", "BroadcastChannel", "IntersectionObserver", "ResizeObserver", "MutationObserver", "HTMLElement", "Element", "Intl", "CSS",
   "setTimeout", "clearTimeout", "setInterval", "clearInterval", "requestAnimationFrame", "cancelAnimationFrame",
   "getComputedStyle", "createImageBitmap", "performance", "structuredClone", "URLSearchParams", "DOMParser", "Option",
   "sessionStorage", "localStorage", "location", "history", "Path2D", "ImageData"].map((name) => [name, "readonly"]),
);

export default [
  { ignores: ["**/vendor/**"] },
  js.configs.recommended,
  {
    files: ["src/yellowjacket/web/static/web/js/*.js"],
    languageOptions: { ecmaVersion: 2022, sourceType: "module", globals: browser },
    rules: {
      "no-unused-vars": ["error", { args: "all", argsIgnorePattern: "^_$" }], eqeqeq: "error", "no-var": "error", "prefer-const": "error",
      "no-shadow": "error", "no-implicit-globals": "error", "no-eval": "error",
    },
  },
  { files: ["**/*.mjs"], languageOptions: { globals: { console: "readonly", process: "readonly", URL: "readonly" } } },
];
