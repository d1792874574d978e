// Envelopes from the server: one fetch brings every channel that is shown, each stream with its own times.
export async function fetchEnvelope(src, ids, from, to, columns) {
  const answer = await fetch(`${src}?channels=${ids.join(",")}&from=${from}&to=${to}&columns=${columns}`).catch(() => null);
  if (!answer) throw new Error("Nembrit does not respond: is it still running?");
  if (!answer.ok) throw new Error(await answer.text());
  return decode(await answer.arrayBuffer());
}

// channel id → { x, low, high, group }; channels of one stream share the very same x
export function decode(buffer) {
  const length = new DataView(buffer).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)));
  const found = new Map();
  let at = 4 + length;
  const next = (n) => { const values = new Float32Array(buffer, at, n); at += 4 * n; return values; };
  for (const { n, group, channels } of header.streams) {
    const x = Array.from(next(n), (t) => t + header.start_s);
    for (const id of channels) found.set(id, { x, low: blank(next(n)), high: blank(next(n)), group });
  }
  return found;
}

const blank = (values) => Array.from(values, (value) => (Number.isNaN(value) ? null : value));
