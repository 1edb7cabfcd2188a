// Builds styles, scripts and fonts into src/tamarack/web/static, and writes what they were built from.
// `node build.mjs` after `npm ci`. A test compares the manifest with the sources.
import { execFileSync } from "node:child_process";
import { createHash } from "node:crypto";
import { cpSync, mkdirSync, readFileSync, readdirSync, rmSync, writeFileSync } from "node:fs";
import { dirname, join, relative } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";

const here = dirname(fileURLToPath(import.meta.url));
const root = dirname(here);
const out = join(root, "src/tamarack/web/static/dist");

function files(folder, ending) {
  return readdirSync(folder, { withFileTypes: true, recursive: true })
    .filter((entry) => entry.isFile() && ending.test(entry.name))
    .map((entry) => join(entry.parentPath, entry.name))
    .sort();
}

const hash = (path) => createHash("sha256").update(readFileSync(path)).digest("hex");

rmSync(out, { recursive: true, force: true });
mkdirSync(join(out, "fonts"), { recursive: true });
const tailwind = join(here, "node_modules/.bin/tailwindcss");
execFileSync(tailwind, ["-i", join(here, "src/tamarack.css"), "-o", join(out, "tamarack.css"), "--minify"], {
  cwd: here,
  stdio: ["ignore", "ignore", "inherit"],
});
const bundled = new Set(["htmx.org"]);
for (const name of ["tamarack", "graph-editor"]) {
  const { metafile } = await build({
    metafile: true,
    entryPoints: [join(here, `src/${name}.js`)],
    outfile: join(out, `${name}.js`),
    bundle: true,
    minify: true,
    format: "iife",
    target: "es2022",
    define: { "process.env.NODE_ENV": '"production"', "globalThis.process": "undefined" },
  });
  for (const path of Object.keys(metafile.inputs)) {
    const found = path.match(/node_modules\/((?:@[^/]+\/)?[^/]+)\//);
    if (found) bundled.add(found[1]);
  }
}
// What scripts of others ask for: that their licences come along.
const licences = [...bundled].sort().map((name) => {
  const file = readdirSync(join(here, "node_modules", name)).find((one) => /^licen[cs]e/i.test(one));
  return `${name}\n\n${file ? readFileSync(join(here, "node_modules", name, file), "utf8").trim() : "no licence file"}\n`;
});
writeFileSync(join(out, "licences.txt"), licences.join("\n---\n\n"));
const clients = join(root, "tests/journeys/tokens/clients");
await build({
  entryPoints: [join(here, "src/clients/openid-client.js")],
  outfile: join(clients, "openid-client.js"),
  bundle: true,
  minify: true,
  format: "esm",
  target: "es2022",
});
cpSync(join(here, "node_modules/openid-client/LICENSE.md"), join(clients, "LICENSE.md"));
const audit = join(root, "tests/journeys/graph_audit");
await build({
  entryPoints: [join(here, "src/clients/graphql-audit.js")],
  outfile: join(audit, "graphql-audit.mjs"),
  bundle: true,
  minify: true,
  format: "esm",
  platform: "node",
  target: "es2022",
});
cpSync(join(here, "node_modules/graphql-http/LICENSE.md"), join(audit, "LICENSE.md"));
cpSync(join(here, "node_modules/htmx.org/dist/htmx.min.js"), join(out, "htmx.js"));
for (const font of ["figtree", "source-serif-4", "spline-sans-mono"]) {
  const name = `${font}-latin-wght-normal.woff2`;
  cpSync(join(here, `node_modules/@fontsource-variable/${font}/files/${name}`), join(out, "fonts", name));
}
const inputs = [
  join(here, "package-lock.json"),
  join(here, "build.mjs"),
  ...files(join(here, "src"), /\.(css|js)$/),
  ...files(join(root, "src/tamarack"), /\.html$/),
];
const manifest = { inputs: {}, outputs: {} };
for (const path of inputs) manifest.inputs[relative(root, path)] = hash(path);
for (const path of [...files(out, /./), ...files(clients, /./), ...files(audit, /./)]) manifest.outputs[relative(root, path)] = hash(path);
writeFileSync(join(out, "manifest.json"), JSON.stringify(manifest, null, 2) + "\n");
