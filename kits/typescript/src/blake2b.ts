/** BLAKE2b (RFC 7693) with a key, on pairs of 32-bit numbers: what the spread's stream is made of. */

const IV = new Uint32Array([
  0xf3bcc908, 0x6a09e667, 0x84caa73b, 0xbb67ae85, 0xfe94f82b, 0x3c6ef372, 0x5f1d36f1, 0xa54ff53a,
  0xade682d1, 0x510e527f, 0x2b3e6c1f, 0x9b05688c, 0xfb41bd6b, 0x1f83d9ab, 0x137e2179, 0x5be0cd19,
]);
const SIGMA = [
  [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15], [14, 10, 4, 8, 9, 15, 13, 6, 1, 12, 0, 2, 11, 7, 5, 3],
  [11, 8, 12, 0, 5, 2, 15, 13, 10, 14, 3, 6, 7, 1, 9, 4], [7, 9, 3, 1, 13, 12, 11, 14, 2, 6, 5, 10, 4, 0, 15, 8],
  [9, 0, 5, 7, 2, 4, 10, 15, 14, 1, 11, 12, 6, 8, 3, 13], [2, 12, 6, 10, 0, 11, 8, 3, 4, 13, 7, 5, 15, 14, 1, 9],
  [12, 5, 1, 15, 14, 13, 4, 10, 0, 7, 6, 3, 9, 2, 8, 11], [13, 11, 7, 14, 12, 1, 3, 9, 5, 0, 15, 4, 8, 6, 2, 10],
  [6, 15, 14, 9, 11, 3, 0, 8, 12, 2, 13, 7, 1, 4, 10, 5], [10, 2, 8, 4, 7, 6, 1, 5, 15, 11, 9, 14, 3, 12, 13, 0],
];
// Indices below are always within their arrays, so "!" says that a number is there.
const v = new Uint32Array(32), m = new Uint32Array(32);

function add(a: number, low: number, high: number): void {
  const sum = v[a]! + low;
  v[a + 1] = v[a + 1]! + high + (sum >= 0x100000000 ? 1 : 0);
  v[a] = sum;
}

function turn(d: number, a: number, right: number): void {
  const low = v[d]! ^ v[a]!, high = v[d + 1]! ^ v[a + 1]!;
  if (right === 32) [v[d], v[d + 1]] = [high, low];
  else if (right === 63) [v[d], v[d + 1]] = [(low << 1) | (high >>> 31), (high << 1) | (low >>> 31)];
  else [v[d], v[d + 1]] = [(low >>> right) | (high << (32 - right)), (high >>> right) | (low << (32 - right))];
}

function mix(a: number, b: number, c: number, d: number, x: number, y: number): void {
  add(a, v[b]!, v[b + 1]!), add(a, m[x]!, m[x + 1]!), turn(d, a, 32);
  add(c, v[d]!, v[d + 1]!), turn(b, c, 24);
  add(a, v[b]!, v[b + 1]!), add(a, m[y]!, m[y + 1]!), turn(d, a, 16);
  add(c, v[d]!, v[d + 1]!), turn(b, c, 63);
}

function compress(h: Uint32Array, block: Uint8Array, counted: number, last: boolean): void {
  const view = new DataView(block.buffer, block.byteOffset, 128);
  for (let k = 0; k < 32; k++) m[k] = view.getUint32(4 * k, true);
  v.set(h, 0), v.set(IV, 16);
  v[24]! ^= counted, v[25]! ^= Math.floor(counted / 0x100000000);
  if (last) (v[28] = ~v[28]!), (v[29] = ~v[29]!);
  for (let round = 0; round < 12; round++) {
    const s = SIGMA[round % 10]!;
    for (let k = 0; k < 4; k++) mix(2 * k, 8 + 2 * k, 16 + 2 * k, 24 + 2 * k, 2 * s[2 * k]!, 2 * s[2 * k + 1]!);
    for (let k = 0; k < 4; k++) {
      mix(2 * k, 8 + 2 * ((k + 1) % 4), 16 + 2 * ((k + 2) % 4), 24 + 2 * ((k + 3) % 4), 2 * s[8 + 2 * k]!, 2 * s[9 + 2 * k]!);
    }
  }
  for (let k = 0; k < 16; k++) h[k]! ^= v[k]! ^ v[k + 16]!;
}

/** The digest, `size` bytes long, of a text under a key of at most 64 bytes. */
export function blake2b(text: Uint8Array, key: Uint8Array, size: number): Uint8Array {
  const h = Uint32Array.from(IV);
  h[0]! ^= 0x01010000 ^ (key.length << 8) ^ size;
  const padded = new Uint8Array((key.length ? 128 : 0) + text.length);
  padded.set(key), padded.set(text, key.length ? 128 : 0);
  let at = 0;
  for (; padded.length - at > 128; at += 128) compress(h, padded.subarray(at, at + 128), at + 128, false);
  const block = new Uint8Array(128);
  block.set(padded.subarray(at));
  compress(h, block, padded.length, true);
  const out = new DataView(new ArrayBuffer(64));
  h.forEach((word, k) => out.setUint32(4 * k, word, true));
  return new Uint8Array(out.buffer, 0, size);
}
