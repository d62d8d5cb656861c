"""Follows one session in three ways that any language has: a WebSocket, Server-Sent Events with JSON Patch, and polling with ETag.
Written from docs/protocol.md alone; JSON Patches are applied by a library that knows nothing of Rendel.

every_way.py SERVER SESSION TOKEN: each way goes on over lost connections until a line comes on standard input that says at which seq
to stop. Then each prints the state that it holds.
"""

import http.client
import json
import sys
import threading
import time
import uuid
from urllib.parse import urlparse

import jsonpatch

from follow import Held, WebSocket

SERVER, SESSION, TOKEN = sys.argv[1:]
URL = urlparse(SERVER)
BASE = f"/v1/sessions/{SESSION}"
AUTH = {"Authorization": f"Bearer {TOKEN}"}
stop_at = None


class Way:
    """One way of following: what it holds, and how often it had to come back."""

    def __init__(self, name):
        self.name, self.seq, self.state, self.returns = name, 0, None, 0

    def is_done(self):
        return stop_at is not None and self.state is not None and self.seq >= stop_at

    def run(self):
        while not self.is_done():
            try:
                self.follow()
            except (OSError, AssertionError, http.client.HTTPException, ValueError):
                self.returns += 1
                time.sleep(0.1)

    def take(self, seq):
        assert seq == self.seq + 1, (self.name, seq, self.seq)
        self.seq = seq


class Socket(Way):
    def __init__(self):
        super().__init__("websocket")
        self.client, self.epoch, self.held = str(uuid.uuid4()), None, Held()

    def follow(self):
        connection = WebSocket(SERVER, f"{BASE}/connect")
        enter = {"type": "enter", "token": TOKEN, "client": self.client}
        if self.state is not None:
            enter |= {"seen": self.seq, "epoch": self.epoch, "audience": self.audience}
        connection.send(enter)
        while not self.is_done():
            frame = connection.receive()
            if frame["type"] == "welcome":
                self.epoch, self.audience = frame["epoch"], frame["audience"]
            self.held.take(frame)
            self.state, self.seq = self.held.state, self.held.seq


class Events(Way):
    def follow(self):
        connection = http.client.HTTPConnection(URL.hostname, URL.port, timeout=20)
        last = {} if self.state is None else {"Last-Event-ID": str(self.seq)}
        connection.request("GET", f"{BASE}/events?form=json-patch", headers=AUTH | last)
        response = connection.getresponse()
        assert response.status == 200, response.status
        event = {}
        while not self.is_done():
            line = response.readline().decode().rstrip("\n")
            assert line or event is not None
            if line and not line.startswith(":"):
                name, _, value = line.partition(": ")
                event[name] = value
            elif not line:
                assert event, "the stream ended"
                self.handle(event)
                event = {}

    def handle(self, event):
        kind = event.get("event")
        if kind == "state":
            self.state, self.seq = json.loads(event["data"]), int(event["id"])
        elif kind == "patch":
            self.take(int(event["id"]))
            self.state = jsonpatch.apply_patch(self.state, json.loads(event["data"]))
        elif kind == "bye":
            raise OSError("the service said bye")


class Polls(Way):
    def __init__(self):
        super().__init__("polling")
        self.unchanged = 0

    def follow(self):
        connection = http.client.HTTPConnection(URL.hostname, URL.port, timeout=20)
        while not self.is_done():
            tag = {} if self.state is None else {"If-None-Match": f'"{self.seq}"'}
            connection.request("GET", f"{BASE}/state", headers=AUTH | tag)
            response = connection.getresponse()
            body = response.read()
            if response.status == 304:
                self.unchanged += 1
            else:
                assert response.status == 200, response.status
                seq = int(response.headers["ETag"].strip('"'))
                assert seq >= self.seq, "what was seen is gone"
                self.state, self.seq = json.loads(body), seq
            time.sleep(0.02)


def main():
    global stop_at
    ways = [Socket(), Events("events"), Polls()]
    threads = [threading.Thread(target=way.run, daemon=True) for way in ways]
    for thread in threads:
        thread.start()
    stop_at = int(sys.stdin.readline())
    for thread in threads:
        thread.join(60)
    for way in ways:
        print(json.dumps({"way": way.name, "seq": way.seq, "returns": way.returns, "state": way.state}))


main()
