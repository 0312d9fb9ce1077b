// Builds what the browser gets: one style sheet, scripts, fonts; hashed names, compressed twins, a manifest.
// The Tailwind CLI makes the styles, esbuild bundles the consoles. Run by `cargo xtask assets`.
import { build } from 'esbuild';
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { brotliCompressSync } from 'node:zlib';
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { basename, dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const here = dirname(fileURLToPath(import.meta.url));
const dist = join(here, 'dist');
const modules = join(here, 'node_modules');
rmSync(dist, { recursive: true, force: true });
mkdirSync(dist);
const manifest = {};

function put(name, bytes) {
  const hash = createHash('sha256').update(bytes).digest('hex').slice(0, 12);
  const dot = name.lastIndexOf('.');
  const hashed = `${name.slice(0, dot)}.${hash}${name.slice(dot)}`;
  writeFileSync(join(dist, hashed), bytes);
  if (!name.endsWith('.woff2')) writeFileSync(join(dist, hashed + '.br'), brotliCompressSync(bytes));
  manifest[name] = hashed;
  return hashed;
}

const out = join(dist, 'style.tmp');
execFileSync('node', [join(modules, '@tailwindcss/cli/dist/index.mjs'), '-i', join(here, 'style.css'), '-o', out, '--minify'], {
  cwd: here,
  stdio: ['ignore', 'ignore', 'inherit'],
});
let css = readFileSync(out, 'utf8');
rmSync(out);
// Until somebody chooses, the system's setting counts: the same values under its question.
css = css.replace(/\[data-theme=night\]\{([^}]*)\}/, (all, values) => `${all}@media (prefers-color-scheme:dark){[data-theme=system]{${values}}}`);
if (!css.includes('[data-theme=system]')) throw new Error('the night has no values');
const families = ['atkinson-hyperlegible-next', 'atkinson-hyperlegible-mono', 'familjen-grotesk'];
css = css.replace(/url\(["']?\.\/files\/([^"')]+)["']?\)/g, (_, file) => {
  const family = families.find((f) => file.startsWith(f));
  const bytes = readFileSync(join(modules, '@fontsource-variable', family, 'files', basename(file)));
  return `url(/assets/${put(file, bytes)})`;
});
put('style.css', Buffer.from(css));
put('htmx.js', readFileSync(join(modules, 'htmx.org/dist/htmx.min.js')));
put('alpine-compat.js', readFileSync(join(modules, 'htmx.org/dist/ext/hx-alpine-compat.min.js')));
put('alpine.js', readFileSync(join(modules, '@alpinejs/csp/dist/cdn.min.js')));
put('app.js', readFileSync(join(here, 'app.js')));
put('live.js', readFileSync(join(here, 'live.js')));
put('upload.js', readFileSync(join(here, 'upload.js')));
async function bundle(name, banner = '') {
  const made = await build({ entryPoints: [join(here, name)], bundle: true, format: 'esm', target: 'es2022', minify: true, write: false, legalComments: 'eof', banner: { js: banner }, nodePaths: [modules] });
  put(name, Buffer.from(made.outputFiles[0].contents));
}
await bundle('console.js');
// Its own headers are dropped by the bundler, so the notice stands here.
await bundle('screen.js', '/*! Contains noVNC 1.7.0, (c) The noVNC authors, Mozilla Public License 2.0: https://mozilla.org/MPL/2.0/. Unmodified; the source is the npm package @novnc/novnc. */');
put('xterm.css', readFileSync(join(modules, '@xterm/xterm/css/xterm.css')));
put('mark.svg', readFileSync(join(here, 'mark.svg')));
writeFileSync(join(dist, 'manifest.json'), JSON.stringify(manifest, null, 1));
