// Calls to the server, and the socket that keeps the page alive.

/** Fetches and turns a refusal into an Error that carries the server's sentence. */
export async function call(method, url, body) {
  const opts = { method };
  if (body instanceof FormData || body instanceof Blob) opts.body = body;
  else if (body !== undefined) {
    opts.body = JSON.stringify(body);
    opts.headers = { 'Content-Type': 'application/json' };
  }
  let r;
  try {
    r = await fetch(url, opts);
  } catch {
    throw new Error('The server does not answer; it may be restarting. Try again in a moment.');
  }
  if (!r.ok) {
    const e = await r.json().catch(() => ({}));
    throw new Error(e.error || `The server refused (${r.status}).`);
  }
  return r.status === 204 ? null : r.headers.get('Content-Type')?.includes('json') ? r.json() : r.arrayBuffer();
}

/** Sends files together as one form. progress is told the share that has left. */
export function upload(url, files, progress) {
  const form = new FormData();
  for (const f of files) form.append(f.webkitRelativePath || 'files', f, f.name);
  if (!progress) return call('POST', url, form);
  return new Promise((yes, no) => {
    const r = new XMLHttpRequest();
    r.open('POST', url);
    r.responseType = 'json';
    r.upload.onprogress = e => progress(e.lengthComputable ? e.loaded / e.total : 0);
    r.upload.onload = () => progress(1);
    r.onload = () => r.status < 300 ? yes(r.response) : no(new Error(r.response?.error || `The server refused (${r.status}).`));
    r.onerror = () => no(new Error('The server does not answer; it may be restarting. Try again in a moment.'));
    r.send(form);
  });
}

/** The socket of one asset. It connects again by itself after the server restarts. */
export class Socket {
  /** @param {string} url @param {{event: (e: object) => void, rect: (head: object, rgba: Uint8Array) => void, open: () => void}} on */
  constructor(url, on) {
    this.url = url;
    this.on = on;
    this.calls = new Map();
    this.next = 1;
    this.wait = 250;
    this.connect();
  }

  connect() {
    const ws = new WebSocket(this.url);
    ws.binaryType = 'arraybuffer';
    this.ws = ws;
    ws.onopen = () => { this.wait = 250; this.on.open(); };
    ws.onmessage = m => {
      if (typeof m.data === 'string') {
        const e = JSON.parse(m.data);
        if (e.t === 'answer') this.answer(e);
        else this.on.event(e);
        return;
      }
      const n = new DataView(m.data).getUint32(0, true);
      const head = JSON.parse(new TextDecoder().decode(new Uint8Array(m.data, 4, n)));
      this.on.rect(head, new Uint8Array(m.data, 4 + n));
      this.send({ t: 'ack' });
    };
    ws.onclose = () => {
      for (const c of this.calls.values()) c.no(new Error('The connection was lost; the last change may not be saved.'));
      this.calls.clear();
      setTimeout(() => this.connect(), this.wait);
      this.wait = Math.min(4000, this.wait * 2);
    };
  }

  send(m) {
    if (this.ws.readyState === WebSocket.OPEN) this.ws.send(JSON.stringify(m));
  }

  answer(e) {
    const c = this.calls.get(e.n);
    this.calls.delete(e.n);
    if (!c) return;
    if (e.error) c.no(new Error(e.error));
    else c.yes(e);
  }

  /** Sends a message that is answered. */
  ask(m) {
    const n = this.next++;
    return new Promise((yes, no) => {
      if (this.ws.readyState !== WebSocket.OPEN) {
        no(new Error('The server does not answer; it may be restarting. Try again in a moment.'));
        return;
      }
      this.calls.set(n, { yes, no });
      this.send({ ...m, n });
    });
  }
}
