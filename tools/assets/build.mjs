// Makes `web/static/vendor` of `web/scripts` and `web/styles`: one script for each kind of page and one for what they share,
// one style sheet, the icons that are used, all stored compressed. `built.json` tells of what it was made.
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import { createHash } from "node:crypto";
import fs from "node:fs";
import path from "node:path";
import { fileURLToPath } from "node:url";
import esbuild from "esbuild";
import subsetFont from "subset-font";

const own = path.dirname(fileURLToPath(import.meta.url));
const source = path.resolve(own, "../../src/nailer");
const web = path.join(source, "web");
const built = path.join(web, "static/vendor");
const modules = path.join(own, "node_modules");

const read = (file) => fs.readFileSync(file);
const below = (folder, endings) =>
  fs
    .readdirSync(folder, { recursive: true })
    .filter((name) => endings.some((ending) => name.endsWith(ending)))
    .map((name) => path.join(folder, name))
    .sort();

// Each quoted word of the sources that is the name of an icon: some that are none come along, none that is used is missing.
function iconsUsed(all) {
  const words = new Set();
  for (const file of [...below(web, [".html", ".js", ".py"])].filter((one) => !one.startsWith(built)))
    for (const [word] of read(file)
      .toString()
      .matchAll(/(?<=["'])[a-z0-9]+(-[a-z0-9]+)*(?=["'])|(?<=bi-)[a-z0-9]+(-[a-z0-9]+)*/g))
      words.add(word);
  return Object.fromEntries(Object.entries(all).filter(([name]) => words.has(name)));
}

async function makeIcons() {
  const folder = path.join(modules, "bootstrap-icons/font");
  const all = JSON.parse(read(path.join(folder, "bootstrap-icons.json")));
  const used = iconsUsed(all);
  const text = String.fromCodePoint(...Object.values(used));
  const font = await subsetFont(read(path.join(folder, "fonts/bootstrap-icons.woff2")), text, {
    targetFormat: "woff2",
  });
  fs.writeFileSync(path.join(built, "icons.woff2"), font);
  const rules = Object.entries(used).map(
    ([name, code]) => `.bi-${name}::before { content: "\\${code.toString(16)}"; }`,
  );
  const common = read(path.join(folder, "bootstrap-icons.css")).toString();
  const head = /\.bi::before,[^}]*\}/.exec(common)[0];
  const face =
    '@font-face { font-display: block; font-family: "bootstrap-icons"; src: url("./icons.woff2") format("woff2"); }';
  return { css: [face, head, ...rules].join("\n"), used: Object.keys(used).sort(), all: Object.keys(all).sort() };
}

const common = {
  bundle: true,
  minify: true,
  legalComments: "none",
  target: "es2022",
  nodePaths: [modules],
  metafile: true,
};

async function makeScripts() {
  const pages = below(path.join(web, "scripts/pages"), [".js"]);
  const made = await esbuild.build({
    ...common,
    entryPoints: pages,
    outdir: built,
    format: "esm",
    splitting: true,
    chunkNames: "part-[hash]",
  });
  const second = { ...common, entryPoints: [path.join(web, "scripts/second.js")], outdir: built, format: "esm" };
  await esbuild.build(second);
  await esbuild.build({ ...common, entryPoints: [path.join(web, "scripts/theme.js")], outdir: built, format: "iife" });
  const outputs = made.metafile.outputs;
  const name = (file) => path.basename(file);
  const needed = (file) =>
    outputs[file].imports
      .filter((one) => one.kind === "import-statement" && outputs[one.path])
      .flatMap((one) => [name(one.path), ...needed(one.path)]);
  const entries = Object.keys(outputs).filter((file) => outputs[file].entryPoint?.includes("scripts/pages/"));
  return Object.fromEntries(entries.map((file) => [name(file), [...new Set(needed(file))].sort()]).sort());
}

async function makeStyles(icons) {
  await esbuild.build({
    ...common,
    entryPoints: [path.join(web, "styles/app.css")],
    outdir: built,
    loader: { ".woff2": "file" },
    assetNames: "[name]",
    external: ["./icons.woff2", "../chevron-dark.svg"],
    plugins: [
      {
        name: "icons",
        setup(build) {
          build.onResolve({ filter: /^icons\.css$/ }, () => ({ path: "icons", namespace: "icons" }));
          build.onLoad({ filter: /.*/, namespace: "icons" }, () => ({
            contents: icons.css,
            loader: "css",
            resolveDir: built,
          }));
        },
      },
    ],
  });
}

function compress() {
  for (const file of below(built, [".js", ".css"])) {
    const bytes = read(file);
    const params = { [constants.BROTLI_PARAM_QUALITY]: 11, [constants.BROTLI_PARAM_SIZE_HINT]: bytes.length };
    fs.writeFileSync(`${file}.br`, brotliCompressSync(bytes, { params }));
    fs.writeFileSync(`${file}.gz`, gzipSync(bytes, { level: 9 }));
  }
}

const digest = (file) => createHash("sha256").update(read(file)).digest("hex").slice(0, 16);

fs.rmSync(built, { recursive: true, force: true });
fs.mkdirSync(built, { recursive: true });
const icons = await makeIcons();
const scripts = await makeScripts();
await makeStyles(icons);
compress();
const sources = [...below(path.join(web, "scripts"), [".js"]), ...below(path.join(web, "styles"), [".css"])];
for (const one of ["build.mjs", "package-lock.json"]) sources.push(path.join(own, one));
const made = {
  scripts,
  icons: icons.used,
  known_icons: icons.all,
  sources: Object.fromEntries(sources.map((file) => [path.relative(path.resolve(own, "../.."), file), digest(file)])),
};
fs.writeFileSync(path.join(built, "built.json"), JSON.stringify(made, null, 1) + "\n");
for (const font of ["hanken-grotesk", "jetbrains-mono"])
  fs.copyFileSync(path.join(modules, `@fontsource-variable/${font}/LICENSE`), path.join(built, `LICENSE-${font}`));
for (const one of ["bootstrap", "bootstrap-icons"])
  fs.copyFileSync(path.join(modules, one, "LICENSE"), path.join(built, `LICENSE-${one}`));
