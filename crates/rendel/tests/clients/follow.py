"""A client of a Rendel session in plain Python, written from docs/protocol.md alone.

follow.py SERVER SESSION TOKEN UPDATES COUNTER: enters, adds to a counter five times, applies effects until UPDATES updates are applied,
and prints the state that it holds.
"""

import base64
import json
import os
import socket
import struct
import sys
import uuid
from urllib.parse import urlparse


class WebSocket:
    """Just enough of RFC 6455 for text frames."""

    def __init__(self, server, path):
        url = urlparse(server)
        self.socket = socket.create_connection((url.hostname, url.port), timeout=30)
        key = base64.b64encode(os.urandom(16)).decode()
        lines = [
            f"GET {path} HTTP/1.1",
            f"Host: {url.netloc}",
            "Upgrade: websocket",
            "Connection: Upgrade",
            f"Sec-WebSocket-Key: {key}",
            "Sec-WebSocket-Version: 13",
            "Sec-WebSocket-Protocol: rendel.v1.json",
        ]
        self.socket.sendall(("\r\n".join(lines) + "\r\n\r\n").encode())
        head = b""
        while not head.endswith(b"\r\n\r\n"):
            head += self.take(1)
        assert b" 101 " in head.split(b"\r\n")[0], head

    def take(self, count):
        data = b""
        while len(data) < count:
            part = self.socket.recv(count - len(data))
            assert part, "the connection ended"
            data += part
        return data

    def send(self, frame):
        self.write(0x1, json.dumps(frame).encode())

    def write(self, opcode, payload):
        mask = os.urandom(4)
        length = len(payload)
        head = bytes([0x80 | opcode])
        if length < 126:
            head += bytes([0x80 | length])
        elif length < 65536:
            head += bytes([0x80 | 126]) + struct.pack(">H", length)
        else:
            head += bytes([0x80 | 127]) + struct.pack(">Q", length)
        masked = bytes(byte ^ mask[index % 4] for index, byte in enumerate(payload))
        self.socket.sendall(head + mask + masked)

    def receive(self):
        text = b""
        while True:
            first, second = self.take(2)
            length = second & 0x7F
            if length == 126:
                (length,) = struct.unpack(">H", self.take(2))
            elif length == 127:
                (length,) = struct.unpack(">Q", self.take(8))
            payload = self.take(length)
            if first & 0x0F == 0x9:
                self.write(0xA, payload)
            elif first & 0x0F in (0x0, 0x1):
                text += payload
                if first & 0x80:
                    return json.loads(text)
            elif first & 0x0F == 0x8:
                raise AssertionError("the service closed the connection")


def tokens(pointer):
    return [token.replace("~1", "/").replace("~0", "~") for token in pointer.split("/")[1:]]


def step(place, token):
    """Into a member of an object, or into the value of a list's element."""
    if isinstance(place, list):
        return next(element["value"] for element in place if element["id"] == token)
    return place[token]


def put_behind(elements, element, after):
    ids = [one["id"] for one in elements]
    elements.insert(0 if after is None else ids.index(after) + 1, element)


def apply(state, effect):
    *parents, last = tokens(effect["at"])
    place = state
    for token in parents:
        place = step(place, token)
    op = effect["op"]
    if op == "splice":
        # A Python string counts Unicode scalar values, as the protocol does.
        index, text = effect["index"], place[last]
        place[last] = text[:index] + effect["insert"] + text[index + effect["delete"] :]
    elif op == "insert":
        put_behind(step(place, last), {"id": effect["id"], "value": effect["value"]}, effect["after"])
    elif op in ("move", "remove"):
        element = next(one for one in place if one["id"] == last)
        place.remove(element)
        if op == "move":
            put_behind(place, element, effect["after"])
    elif op == "show":
        place[last] = effect["value"]
    elif op == "set":
        place[last] = effect["values"] if "values" in effect else effect["value"]
    elif op == "clear":
        place[last] = None
    elif op == "add":
        place[last] = effect["now"]
    elif op == "include":
        if effect["value"] not in place[last]:
            place[last].append(effect["value"])
            place[last].sort(key=lambda element: json.dumps(element).encode("utf-16-be"))
    elif op == "exclude":
        place[last].remove(effect["value"])
    elif op in ("put", "revive"):
        place[last][effect["id"]] = effect["value"]
    elif op in ("drop", "hide"):
        del place[last]
    else:
        raise AssertionError(f"an effect that the page does not describe: {effect}")


class Held:
    """The state that somebody holds, with what is theirs alone of it."""

    def __init__(self):
        self.state, self.seq, self.beside = None, 0, {}

    def take(self, frame):
        if frame["type"] == "beside":
            self.beside[frame["seq"]] = frame
        if frame["type"] == "welcome":
            self.beside = {one["seq"]: one for one in frame.get("beside", [])}
            if "state" in frame:
                self.state, self.seq = frame["state"], frame["seq"] - len(frame.get("updates", []))
        for update in frame.get("updates", []):
            if update["seq"] <= self.seq:
                continue
            assert update.get("first", update["seq"]) <= self.seq + 1, (update["seq"], self.seq)
            self.seq = update["seq"]
            beside = self.beside.pop(self.seq, {"effects": []})
            for effect in update["effects"] + beside["effects"]:
                apply(self.state, effect)
        for at, value in frame.get("yours", {}).items():
            apply(self.state, {"at": at, "op": "show", "value": value})


def main():
    server, session, token, updates, counter = sys.argv[1:]
    connection = WebSocket(server, f"/v1/sessions/{session}/connect")
    connection.send({"type": "enter", "token": token, "client": str(uuid.uuid4())})
    held, sent = Held(), 0
    while held.seq < int(updates):
        held.take(connection.receive())
        if held.state is not None and sent < 5:
            sent += 1
            edit = {"at": counter, "op": "add", "by": 1}
            frame = {"type": "propose", "n": sent, "seen": held.seq, "answered": 0, "edits": [edit]}
            connection.send(frame)
    print(json.dumps({"seq": held.seq, "state": held.state}))


if __name__ == "__main__":
    main()
