// A text console: a terminal on a socket that a one-time ticket opens.
import './console-style.js';
import { Terminal } from '@xterm/xterm';
import { FitAddon } from '@xterm/addon-fit';

function mount(box, focus) {
const $ = (sel) => box.querySelector(sel);
const terminal = new Terminal({
  fontFamily: 'Atkinson Hyperlegible Mono Variable, monospace',
  fontSize: 14,
  scrollback: 5000,
  cursorBlink: !matchMedia('(prefers-reduced-motion: reduce)').matches,
  screenReaderMode: true,
  theme: { background: '#14151f', foreground: '#e8e9f2', cursor: '#a7a1ee', selectionBackground: '#4a4768' },
});
const fit = new FitAddon();
terminal.loadAddon(fit);
terminal.open($('[data-screen]'));
fit.fit();
new ResizeObserver(() => fit.fit()).observe($('[data-screen]'));

let socket = null;
let leaving = false;
let wait = 500;
let state = '';
let password = '';
const lock = $('[data-lock]');
const say = (sel, words) => { const el = $(sel); if (el && el.textContent !== words) el.textContent = words; };
const send = (what) => { if (socket && socket.readyState === 1) socket.send(JSON.stringify(what)); };

async function open() {
  if (socket || leaving) return;
  let answer = null;
  try {
    answer = await fetch(`/console/${box.dataset.of}/ticket`, { method: 'POST', headers: { 'X-CSRF-Token': document.body.dataset.csrf, 'Content-Type': 'application/x-www-form-urlencoded' }, body: new URLSearchParams({ password }) });
  } catch { /* said below */ }
  if (!answer || !answer.ok) {
    const told = answer ? await answer.json().catch(() => ({})) : {};
    say('[data-state]', answer && answer.status === 401 ? 'you are no longer signed in' : told.words || 'Zastrugi does not answer; trying again');
    if (told.locked) ask();
    if (!answer || answer.status >= 500) later();
    return;
  }
  const { ticket } = await answer.json();
  socket = new WebSocket(`/console/${box.dataset.of}/socket?ticket=${ticket}`);
  socket.binaryType = 'arraybuffer';
  socket.addEventListener('open', () => { wait = 500; terminal.reset(); });
  socket.addEventListener('message', (e) => {
    if (typeof e.data !== 'string') { terminal.write(new Uint8Array(e.data)); return; }
    const told = JSON.parse(e.data);
    if (told.state) { state = told.state; say('[data-state]', state); }
    if (told.undelivered) { say('[data-state]', 'what was typed did not get there'); setTimeout(() => say('[data-state]', state), 4000); }
    if ('viewers' in told) people(told);
  });
  socket.addEventListener('close', (e) => {
    socket = null;
    if (leaving) return;
    say('[data-state]', e.reason || 'the connection broke; connecting again');
    if (e.code !== 1008) later();
  });
}
// Nothing of it is kept: whoever opens it anew types it anew.
function ask() { password = ''; lock.hidden = false; lock.querySelector('input').focus(); }
lock.addEventListener('submit', (e) => {
  e.preventDefault();
  const typed = lock.querySelector('input');
  password = typed.value;
  typed.value = '';
  lock.hidden = true;
  open();
});
function later() { setTimeout(open, wait); wait = Math.min(8000, wait * 2); }

// The guest's terminal is as large as that of who types.
function tell() { if (writer) send({ columns: terminal.cols, rows: terminal.rows }); }

let writer = false;
function people(told) {
  writer = told.you;
  const looking = told.viewers === 1 ? 'only you look' : `${told.viewers} look`;
  say('[data-people]', told.writer ? `${looking}; ${told.you ? 'you type' : `${told.writer} types`}` : `${looking}; nobody types`);
  const take = $('[data-take]');
  if (take) take.hidden = writer;
  terminal.options.disableStdin = !writer;
  tell();
}

terminal.onResize(tell);
terminal.onData((text) => { if (writer) send({ type: text }); });
terminal.attachCustomKeyEventHandler((e) => {
  if (e.key === 'Escape' && e.ctrlKey && e.shiftKey) { terminal.blur(); return false; }
  if (e.ctrlKey && e.shiftKey && e.code === 'KeyC') { copy(); return false; }
  return true;
});
async function copy() { if (terminal.hasSelection()) await navigator.clipboard.writeText(terminal.getSelection()).catch(() => {}); terminal.focus(); }
async function paste() { const text = await navigator.clipboard.readText().catch(() => ''); if (text) terminal.paste(text); terminal.focus(); }
const on = (sel, act) => { const el = $(sel); if (el) el.addEventListener('click', act); };
on('[data-take]', () => { send({ take: true }); terminal.focus(); });
on('[data-copy]', copy);
on('[data-paste]', paste);
on('[data-interrupt]', () => { if (writer) send({ type: '\u0003' }); terminal.focus(); });
on('[data-full]', () => { const screen = $('[data-screen]'); if (document.fullscreenElement) document.exitFullscreen(); else screen.requestFullscreen().catch(() => {}); terminal.focus(); });
window.addEventListener('pagehide', () => { leaving = true; if (socket) socket.close(); });
window.addEventListener('pageshow', (e) => { if (e.persisted) { leaving = false; open(); } });
if (focus) terminal.focus();
open();
}

document.querySelectorAll('[data-console]').forEach((box, n) => mount(box, n === 0));
