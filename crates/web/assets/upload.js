// Sends an image in pieces: what it is, read from the file itself; then the pieces, each where the last one ended.
(() => {
  const body = document.body;
  const $ = (sel, root = document) => root.querySelector(sel);
  const PIECE = 8 * 1024 * 1024;
  const END = 1024 * 1024;
  // The file that the person chose; kept while the page changes beneath it.
  let chosen = null;
  let sending = false;

  const hex = (buffer) => [...new Uint8Array(buffer)].map((b) => b.toString(16).padStart(2, '0')).join('');
  function size(bytes) {
    const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];
    let n = bytes;
    let u = 0;
    while (n >= 1024 && u < 4) { n /= 1024; u += 1; }
    return `${u > 1 && n < 100 ? n.toFixed(1) : Math.round(n)}\u00a0${units[u]}`;
  }
  function span(seconds) {
    if (seconds < 90) return `${Math.max(1, Math.round(seconds))} s`;
    if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
    return `${Math.round(seconds / 3600)} h`;
  }
  const pause = (ms) => new Promise((done) => { setTimeout(done, ms); });

  // The same file has the same size, beginning and end.
  async function mark(file) {
    const ends = new Blob([file.slice(0, END), file.slice(Math.max(0, file.size - END)), new TextEncoder().encode(String(file.size))]);
    return hex(await crypto.subtle.digest('SHA-256', await ends.arrayBuffer()));
  }

  async function pick(input) {
    const file = input.files[0];
    const form = input.form;
    if (!file) return;
    chosen = file;
    const set = (name, value) => { form.elements[name].value = value; };
    set('file', file.name);
    set('bytes', file.size);
    set('mark', await mark(file));
    set('head', hex(await file.slice(32768, 34816).arrayBuffer()));
    set('start', hex(await file.slice(0, 512).arrayBuffer()));
    const said = $('[data-image-said]');
    if (said) said.textContent = `${file.name}, ${size(file.size)}`;
    form.dispatchEvent(new Event('input', { bubbles: true }));
  }

  // The sheet's answer is shown without leaving this page, so that the chosen file stays at hand.
  async function submit(form) {
    const button = $('#run-button');
    if (button) button.disabled = true;
    let answer;
    try {
      answer = await fetch(form.action, { method: 'POST', body: new URLSearchParams(new FormData(form)) });
    } catch {
      if (button) button.disabled = false;
      const said = $('[data-image-said]');
      if (said) said.textContent = 'Zastrugi does not answer; nothing was started. Try again.';
      return;
    }
    const page = new DOMParser().parseFromString(await answer.text(), 'text/html');
    const fresh = $('#main', page);
    if (!fresh) { location.href = answer.url; return; }
    $('#main').replaceWith(document.adoptNode(fresh));
    document.title = page.title;
    if (answer.redirected) history.pushState({}, '', answer.url);
    htmx.process($('#main'));
    document.dispatchEvent(new Event('htmx:after:swap'));
    begin();
  }

  function show(box, there, words) {
    const all = Number(box.dataset.bytes);
    $('[data-bar]', box).setAttribute('width', String(all ? (100 * there) / all : 0));
    $('[data-said]', box).textContent = words;
  }

  async function send(box, file) {
    if (sending) return;
    sending = true;
    $('[data-again]', box).hidden = true;
    const url = `/storage/images/${box.dataset.id}`;
    const all = file.size;
    let there = await received(box);
    let failures = 0;
    // The rate of the last few seconds, not of the whole way.
    let window = [[performance.now(), there]];
    while (there !== null && there < all && box.isConnected) {
      let answer = null;
      try {
        answer = await fetch(`${url}/bytes?from=${there}`, { method: 'PUT', headers: { 'X-CSRF-Token': body.dataset.csrf }, body: file.slice(there, there + PIECE) });
      } catch { /* said below, and tried again */ }
      const told = answer ? await answer.json().catch(() => ({})) : {};
      if (answer && answer.ok) {
        failures = 0;
        there = told.received;
        window.push([performance.now(), there]);
        window = window.slice(-24);
        const [at, from] = window[0];
        const rate = (there - from) / Math.max(0.001, (performance.now() - at) / 1000);
        show(box, there, `${size(there)} of ${size(all)}, ${size(rate)}/s, ${span((all - there) / Math.max(1, rate))} left`);
      } else if (answer && answer.status === 409) {
        there = told.received;
      } else if (answer && [401, 403].includes(answer.status)) {
        show(box, there, 'You are no longer signed in, or may not do this. What has arrived stays; sign in and choose the file again.');
        break;
      } else if (answer && [410, 413].includes(answer.status)) {
        break;
      } else {
        failures += 1;
        const wait = Math.min(15, 2 ** Math.min(failures, 4) / 2);
        const why = told.words || 'The connection broke.';
        show(box, there, `${why} ${size(there)} of ${size(all)} are there; trying again in ${wait} s.`);
        window = [[performance.now(), there]];
        await pause(wait * 1000);
      }
    }
    sending = false;
    if (there !== null && there >= all) show(box, there, `All ${size(all)} are there.`);
  }

  async function received(box) {
    try {
      const answer = await fetch(`/storage/images/${box.dataset.id}/received`);
      const told = await answer.json();
      if (answer.ok) return told.received;
      show(box, 0, told.words || 'How much is there can\u2019t be read now.');
      return answer.status === 410 ? null : 0;
    } catch { return 0; }
  }

  async function begin() {
    const box = $('#upload');
    if (!box) return;
    if (chosen && (await mark(chosen)) === box.dataset.mark) { send(box, chosen); return; }
    const there = await received(box);
    if (there === null) return;
    const all = Number(box.dataset.bytes);
    if (there < all) { show(box, there, `${size(there)} of ${size(all)} are there.`); $('[data-again]', box).hidden = false; }
  }

  async function again(input) {
    const box = $('#upload');
    const file = input.files[0];
    if (!file || !box) return;
    const wrong = $('[data-wrong]', box);
    wrong.textContent = '';
    if ((await mark(file)) !== box.dataset.mark) {
      const all = Number(box.dataset.bytes);
      wrong.textContent = file.size === all ? `${file.name} has other contents than the file that was begun.` : `${file.name} has ${size(file.size)}; the file that was begun has ${size(all)}.`;
      return;
    }
    chosen = file;
    send(box, file);
  }

  document.addEventListener('change', (e) => {
    if (e.target.matches('[data-image]')) pick(e.target);
    if (e.target.matches('[data-image-again]')) again(e.target);
  });
  document.addEventListener('submit', (e) => {
    if ($('[data-image]', e.target)) { e.preventDefault(); submit(e.target); }
  });
  // The sending part goes when the image is whole.
  document.addEventListener('htmx:after:swap', () => {
    const box = $('#upload');
    if (box && !sending && $('#image .state [href="#g-steady"]')) box.remove();
  });
  window.addEventListener('beforeunload', (e) => { if (sending) e.preventDefault(); });
  window.addEventListener('popstate', () => location.reload());
  begin();
})();
