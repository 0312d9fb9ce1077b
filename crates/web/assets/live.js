// One live stream for all pages of a browser: browsers allow six connections to a place, and a page that listens for itself
// takes one of them for good. Runs as a shared worker, one for each session.
const pages = new Set();
let stream = null;
let last = null;
let broken = false;

function tell(kind, data) { for (const page of pages) page.postMessage({ kind, data }); }

function listen() {
  if (stream) return;
  stream = new EventSource('/live');
  stream.addEventListener('open', () => { broken = false; tell('open'); });
  stream.addEventListener('error', () => {
    broken = true;
    tell('error');
    // A stream that was refused for good is begun anew: nobody else would.
    if (stream && stream.readyState === EventSource.CLOSED) { stream = null; setTimeout(() => { if (pages.size) listen(); }, 3000); }
  });
  for (const kind of ['hello', 'revision', 'progress', 'loads', 'ended']) {
    stream.addEventListener(kind, (e) => {
      if (kind === 'hello' || kind === 'revision') last = e.data;
      tell(kind, e.data);
      if (kind === 'ended') stop();
    });
  }
}

function stop() {
  if (stream) stream.close();
  stream = null;
  last = null;
}

self.addEventListener('connect', (e) => {
  const page = e.ports[0];
  pages.add(page);
  page.addEventListener('message', () => {
    pages.delete(page);
    page.close();
    if (pages.size === 0) stop();
  });
  page.start();
  listen();
  if (broken) page.postMessage({ kind: 'error' });
  else if (last !== null) page.postMessage({ kind: 'hello', data: last });
});
