import type { FromParticipant, FromService } from "./frame.ts";
import type { Ears, Link } from "./link.ts";

/** Characters of one post, at most; a character has at most three bytes. */
const POST = 20_000;

/**
 * A way to the service where no WebSocket gets through: its frames come as Server-Sent Events, and
 * one's own are posted, one post after the other.
 */
export function openLine(session: string, ears: Ears): Link {
  const over = new AbortController();
  const { signal } = over;
  let id: string | undefined;
  let waiting: string[] = [];
  let isPosting = false;

  const lose = () => {
    if (signal.aborted) return;
    over.abort();
    ears.lost();
  };
  const heard = (event: string) => {
    const field = (name: string) =>
      event
        .split("\n")
        .find((line) => line.startsWith(name))
        ?.slice(name.length);
    const data = field("data: ");
    if (data === undefined) return;
    if (field("event: ") === "frame") return ears.received(JSON.parse(data) as FromService);
    id = JSON.parse(data) as string;
    ears.opened();
  };
  const read = async () => {
    const answer = await fetch(`${session}/lines`, { signal, cache: "no-store" });
    if (!answer.ok || answer.body === null) throw new Error(`it answered ${answer.status}`);
    const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
    let text = "";
    for (let part = await reader.read(); !part.done; part = await reader.read()) {
      const events = (text + part.value).split("\n\n");
      text = events.pop() ?? "";
      for (const event of events) if (!signal.aborted) heard(event);
    }
  };
  const post = async (isLast: boolean) => {
    isPosting = true;
    while (waiting.length > 0) {
      let count = 1;
      let size = waiting[0]?.length ?? 0;
      while (count < waiting.length && size + (waiting[count]?.length ?? 0) < POST) {
        size += waiting[count]?.length ?? 0;
        count += 1;
      }
      const body = waiting.splice(0, count).join("\n");
      const kind = { "Content-Type": "text/plain" };
      // The last word goes out although its page does.
      const more = isLast ? { keepalive: true } : { signal };
      const answer = await fetch(`${session}/lines/${id}`, {
        method: "POST",
        body,
        headers: kind,
        ...more,
      });
      if (!answer.ok) throw new Error(`it answered ${answer.status}`);
    }
    isPosting = false;
  };
  read()
    .catch(() => {})
    .then(lose);
  return {
    send: (frame: FromParticipant) => {
      waiting.push(JSON.stringify(frame));
      if (!isPosting || frame.type === "leave") post(frame.type === "leave").catch(lose);
    },
    close: () => {
      if (!isPosting) waiting = [];
      over.abort();
    },
    isOpen: () => id !== undefined && !signal.aborted,
  };
}

/** After so long on a line a WebSocket is tried, and then after twice as long each time, up to the last. */
const TRY_FIRST = 5_000;
const TRY_LAST = 300_000;

/** Looks now and then whether a WebSocket gets through, as long as anybody wants to know. */
export function whenSocketsPass(
  open: (ears: Ears) => Link,
  isWanted: () => boolean,
  pass: () => void,
  wait = TRY_FIRST,
): void {
  setTimeout(() => {
    if (!isWanted()) return;
    const probe = open({
      opened: () => {
        probe.close();
        if (isWanted()) pass();
      },
      received: () => {},
      lost: () => whenSocketsPass(open, isWanted, pass, Math.min(2 * wait, TRY_LAST)),
    });
  }, wait);
}
