// What the page does by itself: keys, the live stream, field errors, selection, local times.
(() => {
  const body = document.body;
  const $ = (sel, root = document) => root.querySelector(sel);
  const $$ = (sel, root = document) => [...root.querySelectorAll(sel)];
  const typing = (el) => el && (el.matches('input:not([type=checkbox]):not([type=radio]), select, textarea') || el.isContentEditable);

  // Times in the person's zone, with the zone named.
  const zoned = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'medium' });
  const zone = (new Intl.DateTimeFormat('en', { timeZoneName: 'short' }).formatToParts(new Date()).find((p) => p.type === 'timeZoneName') || {}).value || '';
  const two = (n) => String(n).padStart(2, '0');
  function times(root) {
    for (const el of $$('time[data-ms]', root)) {
      const at = new Date(Number(el.dataset.ms));
      const today = at.toDateString() === new Date().toDateString();
      const clock = `${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}`;
      const text = `${today ? '' : `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())} `}${clock} ${zone}`;
      if (el.textContent !== text) el.textContent = text;
      el.title = zoned.format(at);
    }
  }

  // Words beside the field that they are about.
  function fieldErrors() {
    const part = $('#consequences');
    if (!part) return;
    const form = $('#sheet');
    const button = $('#run-button');
    if (button && part.dataset.run && button.textContent !== part.dataset.run) button.textContent = part.dataset.run;
    if (form && 'fresh' in form.dataset) return;
    let errors = {};
    try { errors = JSON.parse(part.dataset.errors || '{}'); } catch { /* shown as findings all the same */ }
    for (const field of $$('[data-field]')) {
      const words = errors[field.dataset.field] || '';
      const slot = $('.wrong', field);
      if (slot && slot.textContent !== words) slot.textContent = words;
      for (const input of $$('input:not([type=hidden]), select, textarea', field)) {
        if (words) input.setAttribute('aria-invalid', 'true'); else input.removeAttribute('aria-invalid');
      }
    }
  }

  // What somebody opened or closed stays so when the page is told something new; by its name too, where the page put another in its place.
  const turned = new WeakSet();
  const named = new Map();
  document.addEventListener('click', (e) => {
    const part = e.target.closest('summary')?.parentElement;
    if (!part) return;
    turned.add(part);
    if (part.id) setTimeout(() => named.set(part.id, part.open));
  });
  const unfold = () => named.forEach((open, id) => {
    const part = document.getElementById(id);
    if (!part || part.open === open) return;
    part.open = open;
    turned.add(part);
  });
  htmx.registerExtension('turned', { htmx_before_morph_attr: (el, { attrName }) => attrName !== 'open' || !turned.has(el) });

  // Whoever types in such a form finds it where it was: news of the page wait until they leave it.
  const held = (part) => part.contains(document.activeElement) && document.activeElement.closest('form[data-holds]');
  htmx.registerExtension('held', { htmx_before_request: (part) => !held(part), htmx_before_response: (part) => !held(part) });
  document.addEventListener('focusout', (e) => {
    if (e.target.closest('form[data-holds]')) setTimeout(() => document.body.dispatchEvent(new CustomEvent('revision')));
  });

  // Days are the person's own: the server is told how far from UTC they are.
  for (const at of $$('input[data-zone]')) at.value = String(new Date().getTimezoneOffset());

  // Selection of rows: kept by identifier, so that a refreshed list keeps it.
  const chosen = new Set();
  function selection() {
    for (const box of $$('input[data-pick]')) box.checked = chosen.has(box.value);
    const bulk = $('#bulk');
    if (!bulk) return;
    bulk.hidden = chosen.size === 0;
    const count = $('#bulk-count');
    if (count) count.textContent = `${chosen.size} selected`;
    for (const link of $$('a[data-href]', bulk)) link.href = `${link.dataset.href}${[...chosen].join(',')}`;
  }
  document.addEventListener('input', (e) => { if (e.target.form && e.target.form.id === 'sheet') delete e.target.form.dataset.fresh; });
  // With Shift held, a box takes all between it and the one before along.
  let lastPick = null;
  let shifted = false;
  document.addEventListener('click', (e) => { shifted = e.shiftKey; }, true);
  document.addEventListener('change', (e) => {
    if (e.target.matches('input[data-pick]')) {
      const all = $$('input[data-pick]');
      const [at, from] = [all.indexOf(e.target), all.findIndex((b) => b.value === lastPick)];
      const range = shifted && from >= 0 ? all.slice(Math.min(at, from), Math.max(at, from) + 1) : [e.target];
      for (const box of range) { if (e.target.checked) chosen.add(box.value); else chosen.delete(box.value); }
      lastPick = e.target.value;
      selection();
    }
    if (e.target.matches('input[data-pick-all]')) {
      for (const box of $$('input[data-pick]')) { if (e.target.checked) chosen.add(box.value); else chosen.delete(box.value); }
      selection();
    }
    if (e.target.matches('[data-go]')) location.href = e.target.value;
    if (e.target.matches('[data-size]')) {
      const size = e.target.selectedOptions[0].dataset;
      for (const [name, value] of Object.entries(size)) { const input = $(`[name="${name}"]`); if (input) input.value = value; }
      const form = e.target.form;
      if (form) form.dispatchEvent(new Event('input', { bubbles: true }));
    }
    if (e.target.matches('[data-submit]')) e.target.form.requestSubmit();
  });
  document.addEventListener('click', (e) => {
    const more = e.target.closest('[data-add]');
    if (more) {
      e.preventDefault();
      const from = $(more.dataset.add);
      const copy = from.content ? from.content.cloneNode(true) : null;
      if (copy) { more.parentElement.before(copy); more.closest('form').dispatchEvent(new Event('input', { bubbles: true })); }
    }
    const open = e.target.closest('[data-open]');
    if (open) $(open.dataset.open).showModal();
    const close = e.target.closest('[data-close]');
    if (close) close.closest('dialog').close();
    const to = e.target.closest('a[href^="#f-"]');
    if (to) { const input = $(`${to.getAttribute('href')} input:not([type=hidden]), ${to.getAttribute('href')} select, ${to.getAttribute('href')} textarea`); if (input) { e.preventDefault(); input.focus(); } }
  });

  // A press that was answered leads away; a second one in between finds the button asleep.
  document.addEventListener('submit', (e) => {
    const button = e.submitter;
    if (button && !('again' in button.dataset) && e.target.matches('[data-once]')) setTimeout(() => { button.disabled = true; }, 0);
  });
  window.addEventListener('pageshow', () => { for (const b of $$('form[data-once] button')) b.disabled = false; });

  // Where a host's machines would go if it failed: asked when somebody points at it or reaches it with Tab.
  let would = null;
  function ghosts(column, to) {
    for (const g of $$('.ghost')) g.remove();
    for (const c of $$('.failing')) c.classList.remove('failing');
    if (!column) return;
    column.classList.add('failing');
    for (const [host, share] of Object.entries(to)) {
      const there = $(`[data-host="${host}"]`, column.ownerSVGElement);
      if (!there) continue;
      const tall = Math.max(2, Number(there.dataset.tall) * share);
      const box = document.createElementNS('http://www.w3.org/2000/svg', 'rect');
      for (const [k, v] of Object.entries({ class: 'ghost', x: there.dataset.x, width: there.dataset.w, y: Math.max(0, Number(there.dataset.top) - tall), height: tall })) box.setAttribute(k, v);
      there.append(box);
    }
  }
  async function ask(column) {
    if (would === column) return;
    would = column;
    if (!column) { ghosts(null); return; }
    const answer = await fetch(`/field/would/${column.dataset.host}`).catch(() => null);
    if (would !== column || !answer || !answer.ok) return;
    const told = await answer.json();
    ghosts(column, told.to);
    const words = $('#would');
    if (words) words.textContent = told.words;
  }
  let pointing = 0;
  for (const kind of ['mouseover', 'focusin']) {
    document.addEventListener(kind, (e) => {
      const column = e.target.closest && e.target.closest('[data-host]');
      clearTimeout(pointing);
      pointing = setTimeout(() => ask(column || null), kind === 'focusin' ? 0 : 120);
    });
  }

  // The live stream: one for all pages of the browser, in a shared worker; where there is none, the page asks now and then.
  // When it breaks the page says so and works on. A page that nobody looks at waits until somebody does.
  const badge = () => $('#live');
  let line = null;
  let asking = 0;
  const missed = new Set();
  function hear(kind) { if (document.hidden) missed.add(kind); else htmx.trigger(body, kind); }
  document.addEventListener('visibilitychange', () => {
    if (document.hidden) return;
    for (const kind of missed) htmx.trigger(body, kind);
    missed.clear();
  });
  function told({ kind, data }) {
    if (!badge()) return;
    badge().hidden = kind !== 'error';
    // What happened between the page's making and the stream's first word, or while it was broken.
    if ((kind === 'hello' || kind === 'revision') && data !== body.dataset.revision) { body.dataset.revision = data; hear('revision'); }
    if (kind === 'progress' || kind === 'loads') hear(kind);
    if (kind === 'ended') location.reload();
  }
  async function poll() {
    const answer = document.hidden ? null : await fetch('/live/now').catch(() => false);
    if (answer === false || (answer && answer.status >= 500)) told({ kind: 'error' });
    else if (answer && answer.ok && !answer.redirected) {
      told({ kind: 'hello', data: (await answer.json()).revision });
      told({ kind: 'progress' });
      told({ kind: 'loads' });
    } else if (answer) location.reload();
    if (asking) asking = setTimeout(poll, 5000);
  }
  function listen() {
    if (!badge() || line || asking) return;
    try {
      // Another session is another worker.
      line = new SharedWorker(body.dataset.live, { name: `live ${body.dataset.csrf}` }).port;
      line.addEventListener('message', (e) => told(e.data));
      line.start();
    } catch {
      asking = setTimeout(poll, 5000);
    }
  }
  window.addEventListener('pagehide', () => {
    if (line) line.postMessage('bye');
    clearTimeout(asking);
    [line, asking] = [null, 0];
  });
  window.addEventListener('pageshow', (e) => { if (e.persisted) listen(); });

  // What is typed into a sheet stands in its address, so that going back to it, or loading it anew, brings it back. Secrets
  // and what the page made for itself stay out; what is too long for an address does too.
  const LONGEST = 6000;
  function typedNow(form) {
    const typed = new URLSearchParams();
    for (const [name, value] of new FormData(form)) {
      const input = form.elements[name];
      const secret = input && input.type === 'password';
      if (!secret && typeof value === 'string' && !['_csrf', 'request', 'seen'].includes(name)) typed.append(name, value);
    }
    return typed;
  }
  function keep() {
    const form = $('#sheet');
    if (!form) return;
    const to = `${form.getAttribute('action')}?${typedNow(form)}`;
    if (to.length <= LONGEST) history.replaceState(history.state, '', to);
  }
  // What else can be chosen follows from this choice: the sheet is filled in anew, and what was typed stays.
  document.addEventListener('change', (e) => {
    if (!e.target.matches('[data-refill]')) return;
    const typed = typedNow(e.target.form);
    for (const name of e.target.dataset.refill.split(/\s+/)) typed.delete(name);
    location.replace(`${e.target.form.getAttribute('action')}?${typed}`);
  });
  let keeping = 0;
  document.addEventListener('input', (e) => {
    if (!e.target.form || e.target.form.id !== 'sheet') return;
    clearTimeout(keeping);
    keeping = setTimeout(keep, 200);
  });
  document.addEventListener('submit', (e) => { if (e.target.id === 'sheet') { clearTimeout(keeping); keep(); } });

  // A machine that is drawn on another host than before travels there.
  const calm = matchMedia('(prefers-reduced-motion: reduce)');
  let were = new Map();
  document.addEventListener('htmx:before:swap', () => {
    were = new Map($$('#field [data-m]').map((a) => [a.dataset.m, a.getBoundingClientRect()]));
  });
  function travel() {
    const before = were;
    were = new Map();
    if (calm.matches) return;
    for (const a of $$('#field [data-m]')) {
      const [was, is, svg] = [before.get(a.dataset.m), a.getBoundingClientRect(), a.ownerSVGElement];
      if (!was || Math.abs(was.left - is.left) < 8) continue;
      const scale = svg.viewBox.baseVal.width / svg.getBoundingClientRect().width;
      const from = `translate(${(was.left - is.left) * scale}px, ${(was.top - is.top) * scale}px)`;
      a.animate([{ transform: from }, { transform: 'none' }], { duration: 1200, easing: 'ease-in-out' });
    }
  }

  // What was shown of a failing host stays shown when the page is drawn anew.
  function again() { if (!would) return; const host = would.dataset.host; would = null; ask($(`[data-host="${host}"]`)); }
  function settle() { travel(); times(document); fieldErrors(); selection(); rowMark(); again(); }
  document.addEventListener('htmx:after:swap', () => { unfold(); settle(); });
  // Hits say what they answer; whoever pressed Enter before they came goes to the first.
  new MutationObserver(() => {
    const [hits, search, list] = [$('#hits'), $('#search'), $('#hits [data-of]')];
    if (!hits || !list) return;
    hits.dataset.of = list.dataset.of;
    if (hits.dataset.go && hits.dataset.of === search.value.trim()) {
      delete hits.dataset.go;
      const first = $('#hits a');
      if (first) first.click();
    }
  }).observe($('#hits') || body, { childList: true });

  // What can be done on a page, in one list: its buttons, and what stands under data-deeds.
  const deeds = $('#deeds');
  function open_deeds() {
    const seen = new Set();
    const links = [...$$('.acts a'), ...$$('[data-deeds] a')].filter((a) => {
      const is_new = !seen.has(a.getAttribute('href'));
      seen.add(a.getAttribute('href'));
      return is_new;
    });
    if (!deeds || !links.length) return false;
    $('ul', deeds).replaceChildren(...links.map((a) => {
      const link = document.createElement('a');
      link.href = a.getAttribute('href');
      link.textContent = a.textContent.trim().replace(/\s+/g, ' ');
      if (a.classList.contains('danger')) link.className = 'ember';
      const item = document.createElement('li');
      item.append(link);
      return item;
    }));
    $('input', deeds).value = '';
    sift();
    deeds.showModal();
    $('input', deeds).focus();
    return true;
  }
  const left = () => $$('li:not([hidden]) a', deeds);
  function sift() {
    const words = $('input', deeds).value.trim().toLowerCase();
    $$('li', deeds).forEach((li) => { li.hidden = !li.textContent.toLowerCase().includes(words); });
    $('.hint', deeds).hidden = left().length > 0;
  }
  if (deeds) {
    $('input', deeds).addEventListener('input', sift);
    deeds.addEventListener('keydown', (e) => {
      const all = left();
      const at = all.indexOf(document.activeElement);
      if (e.key === 'Enter' && at < 0) { e.preventDefault(); if (all[0]) all[0].click(); }
      if (e.key !== 'ArrowDown' && e.key !== 'ArrowUp') return;
      e.preventDefault();
      const next = at + (e.key === 'ArrowDown' ? 1 : -1);
      if (next < 0) $('input', deeds).focus(); else if (all[next]) all[next].focus();
    });
    deeds.addEventListener('click', (e) => { if (e.target === deeds) deeds.close(); });
  }
  document.addEventListener('click', (e) => { if (e.target.closest('[data-more]')) open_deeds(); });

  // Keys.
  let row = -1;
  const rows = () => $$('tbody tr[data-row]');
  function rowMark() { rows().forEach((r, i) => r.classList.toggle('at', i === row)); }
  function move(by) {
    const all = rows();
    if (!all.length) return;
    row = Math.max(0, Math.min(all.length - 1, row + by));
    rowMark();
    all[row].scrollIntoView({ block: 'nearest' });
  }
  const places = { f: '/', h: '/hosts', m: '/machines', t: '/storage', n: '/networks', p: '/protect', l: '/logbook', s: '/settings' };
  let going = false;
  document.addEventListener('keydown', (e) => {
    const search = $('#search');
    if ((e.key === 'k' && (e.ctrlKey || e.metaKey)) || (e.key === '/' && !typing(e.target))) {
      e.preventDefault();
      if (search) { search.focus(); search.select(); }
      return;
    }
    if (e.key === 'Escape') {
      const hits = $('#hits');
      if (hits) hits.replaceChildren();
      if (document.activeElement) document.activeElement.blur();
      return;
    }
    const hit = e.target.closest && e.target.closest('#hits a');
    if ((e.target === search || hit) && (e.key === 'ArrowDown' || e.key === 'ArrowUp' || e.key === 'Enter')) {
      const all = $$('#hits a');
      const at = all.indexOf(document.activeElement);
      if (e.key === 'Enter') {
        if (e.target !== search) return;
        e.preventDefault();
        // What stands there may answer what was typed before: the answer to what is typed now is waited for.
        const hits = $('#hits');
        if (hits.dataset.of === search.value.trim() && all[0]) all[0].click();
        else { hits.dataset.go = '1'; htmx.trigger(search, 'now'); }
        return;
      }
      e.preventDefault();
      const next = at + (e.key === 'ArrowDown' ? 1 : -1);
      if (next < 0) search.focus(); else if (all[next]) all[next].focus();
      return;
    }
    if (typing(e.target) || e.ctrlKey || e.metaKey || e.altKey || $('dialog[open]')) return;
    if (going) {
      going = false;
      if (places[e.key]) { e.preventDefault(); location.href = places[e.key]; }
      return;
    }
    const at = rows()[row];
    switch (e.key) {
      case 'g': going = true; setTimeout(() => { going = false; }, 1200); break;
      case 'j': move(1); break;
      case 'k': move(-1); break;
      case 'x': { const box = at && $('input[data-pick]', at); if (box) box.click(); break; }
      case 'Enter': { const link = at && e.target === body && $('a', at); if (link) link.click(); break; }
      case 'n': { const link = $('[data-new]'); if (link) link.click(); break; }
      case '.': {
        const link = $('#bulk:not([hidden]) a');
        if (link) { e.preventDefault(); link.focus(); } else if (open_deeds()) e.preventDefault();
        break;
      }
      case '?': { const keys = $('#keys'); if (keys) keys.showModal(); break; }
      default:
    }
  });

  document.addEventListener('alpine:init', () => {
    Alpine.data('theme', () => ({
      night: document.documentElement.dataset.theme === 'night'
        || (document.documentElement.dataset.theme === 'system' && matchMedia('(prefers-color-scheme: dark)').matches),
      label() { return this.night ? 'Day' : 'Night'; },
      toggle() {
        this.night = !this.night;
        this.choose(this.night ? 'night' : 'day');
      },
      follow() {
        this.night = matchMedia('(prefers-color-scheme: dark)').matches;
        this.choose('system');
      },
      choose(theme) {
        document.documentElement.dataset.theme = theme;
        const headers = { 'X-CSRF-Token': body.dataset.csrf, 'Content-Type': 'application/x-www-form-urlencoded', 'HX-Request': 'true' };
        fetch('/settings/theme', { method: 'POST', headers, body: `theme=${theme}` });
      },
    }));
  });
  settle();
  listen();
  // A sheet that came back as an answer is loaded anew as what it is: what was typed, not a second try.
  if ($('#sheet') && !location.search) keep();
})();
