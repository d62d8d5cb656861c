import type { FromParticipant, FromService } from "./frame.ts";

/** How frames are written. */
export type Codec = {
  subprotocol: string;
  encode: (frame: FromParticipant) => string | Uint8Array<ArrayBuffer>;
  decode: (data: string | ArrayBuffer) => FromService;
};

export const JSON_CODEC: Codec = {
  subprotocol: "rendel.v1.json",
  encode: (frame) => JSON.stringify(frame),
  decode: (data) => JSON.parse(String(data)) as FromService,
};

/** A way to the service, from its first moment to its end. */
export type Link = {
  send: (frame: FromParticipant) => void;
  /** After this nothing is heard of it. */
  close: () => void;
  isOpen: () => boolean;
};

/** What is heard of a link. */
export type Ears = {
  opened: () => void;
  received: (frame: FromService) => void;
  lost: () => void;
};

/** A WebSocket to a session's address, such as `https://gate.example/v1/sessions/gate`. */
export function openSocket(session: string, codec: Codec, ears: Ears): Link {
  const socket = new WebSocket(`${session.replace(/^http/, "ws")}/connect`, codec.subprotocol);
  socket.binaryType = "arraybuffer";
  let isOver = false;
  socket.onopen = () => isOver || ears.opened();
  socket.onmessage = ({ data }) =>
    isOver || ears.received(codec.decode(data as string | ArrayBuffer));
  socket.onclose = () => isOver || ears.lost();
  return {
    send: (frame) => socket.send(codec.encode(frame)),
    close: () => {
      isOver = true;
      socket.close();
    },
    isOpen: () => socket.readyState === WebSocket.OPEN,
  };
}
