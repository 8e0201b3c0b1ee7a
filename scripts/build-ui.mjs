// Builds what the pages load from the packages pinned in package.json:
// Bootstrap themed by our Sass, htmx, Alpine's CSP build, idb, a reader of QR codes and
// two font families.
// The results are committed, with a hash of their inputs, so that running the
// application needs no Node. Run: npm ci && npm run build
import { createHash } from "node:crypto";
import { copyFileSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import * as sass from "sass";

const ui = "src/hollow_kettle/ui";
const built = join(ui, "static/ui/built");
const modules = "node_modules";

rmSync(built, { recursive: true, force: true });
mkdirSync(join(built, "fonts"), { recursive: true });

const css = sass.compile(join(ui, "scss/kettle.scss"), {
  style: "compressed",
  loadPaths: [modules],
  quietDeps: true,
  silenceDeprecations: ["import"],
});
writeFileSync(join(built, "kettle.css"), css.css);

copyFileSync(join(modules, "htmx.org/dist/htmx.min.js"), join(built, "htmx.js"));
copyFileSync(join(modules, "@alpinejs/csp/dist/cdn.min.js"), join(built, "alpine-csp.js"));
copyFileSync(join(modules, "idb/build/index.js"), join(built, "idb.js"));
copyFileSync(join(modules, "jsqr/dist/jsQR.js"), join(built, "jsqr.js"));
for (const family of ["next", "mono"]) {
  for (const subset of ["latin", "latin-ext"]) {
    const name = `atkinson-hyperlegible-${family}-${subset}-wght-normal.woff2`;
    const folder = `@fontsource-variable/atkinson-hyperlegible-${family}`;
    copyFileSync(join(modules, folder, "files", name), join(built, "fonts", name));
    if (subset === "latin") {
      copyFileSync(join(modules, folder, "LICENSE"), join(built, "fonts", `LICENSE-${family}`));
    }
  }
}

const inputs = [
  "package.json",
  "package-lock.json",
  "scripts/build-ui.mjs",
  ...readdirSync(join(ui, "scss")).sort().map((name) => join(ui, "scss", name)),
];
const hash = createHash("sha256");
for (const name of inputs) hash.update(name).update("\0").update(readFileSync(name)).update("\0");
writeFileSync(join(built, "inputs.sha256"), hash.digest("hex") + "\n");
console.log(`built into ${built}`);
