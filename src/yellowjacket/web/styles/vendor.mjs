// Copies the front-end files that ship with the application from node_modules, with their licences.
import { copyFileSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";

const target = "src/yellowjacket/web/static/web";
const files = [
  ["htmx.org/dist/htmx.min.js", "vendor/htmx.min.js"],
  ["htmx.org/LICENSE", "vendor/htmx.LICENSE.txt"],
  ["@fontsource-variable/archivo/files/archivo-latin-standard-normal.woff2", "fonts/archivo.woff2"],
  ["@fontsource-variable/archivo/files/archivo-latin-ext-standard-normal.woff2", "fonts/archivo-ext.woff2"],
  ["@fontsource-variable/archivo/LICENSE", "fonts/archivo.LICENSE.txt"],
  ["@fontsource-variable/spline-sans-mono/files/spline-sans-mono-latin-wght-normal.woff2", "fonts/spline-sans-mono.woff2"],
  ["@fontsource-variable/spline-sans-mono/LICENSE", "fonts/spline-sans-mono.LICENSE.txt"],
];
mkdirSync(`${target}/vendor`, { recursive: true });
mkdirSync(`${target}/fonts`, { recursive: true });
for (const [from, to] of files) copyFileSync(`node_modules/${from}`, `${target}/${to}`);
const versions = ["htmx.org", "@fontsource-variable/archivo", "@fontsource-variable/spline-sans-mono"].map(
  (name) => `${name} ${JSON.parse(readFileSync(`node_modules/${name}/package.json`)).version}`,
);
writeFileSync(`${target}/vendor/VERSIONS.txt`, versions.join("\n") + "\n");
