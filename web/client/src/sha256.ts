const PRIMES = (() => {
  const primes: number[] = [];
  for (let n = 2; primes.length < 64; n++)
    if (primes.every((prime) => n % prime !== 0)) primes.push(n);
  return primes;
})();
const fraction = (root: number) => ((root % 1) * 2 ** 32) | 0;
const ROUNDS = PRIMES.map((prime) => fraction(Math.cbrt(prime)));
const START = PRIMES.slice(0, 8).map((prime) => fraction(Math.sqrt(prime)));

/**
 * SHA-256 (FIPS 180-4). The browser's own is asynchronous and missing from pages without TLS, where
 * replicas must be comparable too.
 */
export function sha256(text: string): string {
  const message = new TextEncoder().encode(text);
  const padded = new Uint8Array(((message.length + 72) >> 6) << 6);
  padded.set(message);
  padded[message.length] = 0x80;
  const view = new DataView(padded.buffer);
  view.setUint32(padded.length - 8, Math.floor(message.length / 2 ** 29));
  view.setUint32(padded.length - 4, (message.length << 3) >>> 0);
  const hash = Int32Array.from(START);
  const words = new Int32Array(64);
  for (let block = 0; block < padded.length; block += 64) {
    for (let i = 0; i < 16; i++) words[i] = view.getInt32(block + 4 * i);
    for (let i = 16; i < 64; i++) {
      const [a, b] = [words[i - 15] ?? 0, words[i - 2] ?? 0];
      const small = turn(a, 7) ^ turn(a, 18) ^ (a >>> 3);
      const large = turn(b, 17) ^ turn(b, 19) ^ (b >>> 10);
      words[i] = ((words[i - 16] ?? 0) + small + (words[i - 7] ?? 0) + large) | 0;
    }
    let [a = 0, b = 0, c = 0, d = 0, e = 0, f = 0, g = 0, h = 0] = hash;
    for (let i = 0; i < 64; i++) {
      const choice = (e & f) ^ (~e & g);
      const one =
        (h +
          (turn(e, 6) ^ turn(e, 11) ^ turn(e, 25)) +
          choice +
          (ROUNDS[i] ?? 0) +
          (words[i] ?? 0)) |
        0;
      const majority = (a & b) ^ (a & c) ^ (b & c);
      const two = ((turn(a, 2) ^ turn(a, 13) ^ turn(a, 22)) + majority) | 0;
      [h, g, f, e, d, c, b, a] = [g, f, e, (d + one) | 0, c, b, a, (one + two) | 0];
    }
    [a, b, c, d, e, f, g, h].forEach((word, i) => {
      hash[i] = ((hash[i] ?? 0) + word) | 0;
    });
  }
  return Array.from(hash, (word) => (word >>> 0).toString(16).padStart(8, "0")).join("");
}

function turn(word: number, by: number): number {
  return (word >>> by) | (word << (32 - by));
}
