import { expect, test } from "vitest";
import { ServiceTime } from "../src/time.ts";

/** Numbers from 0 to 1 that follow from a seed (mulberry32). */
function randomOf(seed: number) {
  let state = seed;
  return () => {
    state = (state + 0x6d2b79f5) | 0;
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state);
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed;
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296;
  };
}

test("the time is told within 20 ms over a link with 200 ms of jitter", () => {
  const service = (own: number) => 3_600_000 + own * 1.00004;
  for (let seed = 0; seed < 200; seed++) {
    const random = randomOf(seed);
    const time = new ServiceTime();
    let now = 5_000;
    for (let pong = 0; pong < 200; pong++) {
      const [there, back] = [random() * 200, random() * 200];
      time.handlePong(now, Math.floor(service(now + 10 + there)), now + 20 + there + back);
      now = Math.max(now + 20 + there + back, now + (pong < 48 ? 250 : 2_000));
      if (pong === 47 || pong === 199) {
        const error = Math.abs((time.at(now) ?? 0) - service(now));
        expect(error, `seed ${seed}, after ${pong + 1} pongs`).toBeLessThan(20);
      }
    }
  }
});

test("a service whose clock was set to another time is believed, and nothing is known before", () => {
  const time = new ServiceTime();
  expect(time.at(5)).toBeUndefined();
  for (let n = 0; n < 40; n++)
    time.handlePong(n * 1_000, n * 1_000 + 5 + (n < 20 ? 0 : 7_200_000), n * 1_000 + 10);
  expect(Math.abs((time.at(40_000) ?? 0) - 7_240_000)).toBeLessThan(20);
});
