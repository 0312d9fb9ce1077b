// A graphical screen: the remote framebuffer protocol on a socket that a one-time ticket opens.
import RFB from '@novnc/novnc';

const box = document.querySelector('#screen');
const $ = (sel) => box.querySelector(sel);
const id = box.dataset.id;
const types = 'types' in box.dataset;
const say = (words) => { const el = $('[data-state]'); if (el.textContent !== words) el.textContent = words; };
const keyboard = $('[data-keyboard]');

// X key symbols (RFC 6143, section 7.5.4).
const SYMBOLS = { ctrl: 0xffe3, alt: 0xffe9, super: 0xffeb, delete: 0xffff, escape: 0xff1b, tab: 0xff09, f1: 0xffbe, f2: 0xffbf };

let rfb = null;
let leaving = false;
let wait = 300;
let why = '';
let password = '';
const lock = $('[data-lock]');

async function open() {
  if (rfb || leaving) return;
  let answer = null;
  try {
    answer = await fetch(`/screen/${id}/ticket`, { method: 'POST', headers: { 'X-CSRF-Token': document.body.dataset.csrf, 'Content-Type': 'application/x-www-form-urlencoded' }, body: new URLSearchParams({ password }) });
  } catch { /* said below */ }
  if (!answer || !answer.ok) {
    const told = answer ? await answer.json().catch(() => ({})) : {};
    say(answer && answer.status === 401 ? 'you are no longer signed in' : told.words || 'Zastrugi does not answer; trying again');
    if (told.locked) ask();
    if (!answer || answer.status >= 500) later();
    return;
  }
  const { ticket } = await answer.json();
  const socket = new WebSocket(`/screen/${id}/socket?ticket=${ticket}&keyboard=${keyboard ? keyboard.value : 'us'}`);
  why = '';
  socket.addEventListener('close', (e) => { why = e.reason; });
  rfb = new RFB($('[data-screen]'), socket, { shared: true });
  rfb.viewOnly = !types;
  rfb.scaleViewport = true;
  rfb.clipViewport = false;
  rfb.background = 'transparent';
  rfb.addEventListener('connect', () => { wait = 300; say('connected'); rfb.focus(); });
  rfb.addEventListener('disconnect', () => {
    rfb = null;
    if (leaving) return;
    say(why || 'the machine is off, or its host does not answer; trying again');
    later();
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
function later() { setTimeout(open, wait); wait = Math.min(4000, wait * 2); }
function anew() { if (rfb) { wait = 50; rfb.disconnect(); } }

function press(symbols) {
  if (!rfb || !types) return;
  for (const s of symbols) rfb.sendKey(s, null, true);
  for (const s of [...symbols].reverse()) rfb.sendKey(s, null, false);
}
// A character as its symbol: Latin-1 as it is, others marked.
const symbol = (c) => { const code = c.codePointAt(0); return c === '\n' ? 0xff0d : c === '\t' ? 0xff09 : code < 0x100 ? code : 0x01000000 + code; };

// The host holds the modifiers that a character needs on the guest's keyboard.
const character = (c) => press([symbol(c)]);

const on = (sel, kind, act) => { const el = $(sel); if (el) el.addEventListener(kind, act); };
on('[data-keyboard]', 'change', anew);
on('[data-combination]', 'change', (e) => {
  if (e.target.value) press(e.target.value.split(' ').map((k) => SYMBOLS[k]));
  e.target.value = '';
  if (rfb) rfb.focus();
});
on('[data-paste]', 'click', async () => {
  const text = await navigator.clipboard.readText().catch(() => '');
  for (const c of text.slice(0, 500)) character(c);
  if (rfb) rfb.focus();
});
on('[data-full]', 'click', () => { if (document.fullscreenElement) document.exitFullscreen(); else $('[data-screen]').requestFullscreen().catch(() => {}); if (rfb) rfb.focus(); });
box.addEventListener('keydown', (e) => {
  if (e.key === 'Escape' && e.ctrlKey && e.shiftKey) { e.preventDefault(); e.stopPropagation(); if (rfb) rfb.blur(); }
}, true);
window.addEventListener('pagehide', () => { leaving = true; if (rfb) rfb.disconnect(); });
window.addEventListener('pageshow', (e) => { if (e.persisted) { leaving = false; open(); } });
open();
