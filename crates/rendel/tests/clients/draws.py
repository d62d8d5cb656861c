"""Checks the draws of a session in plain Python, written from docs/charter.md alone.

draws.py < JOURNAL: reads updates as JSON lines, and prints each draw whose key is told and what it comes to.
"""

import hashlib
import hmac
import json
import sys


def numbers(key):
    for block in range(1 << 32):
        words = hmac.new(key, block.to_bytes(4, "big"), hashlib.sha256).digest()
        for at in range(0, 32, 4):
            yield int.from_bytes(words[at : at + 4], "big")


def below(stream, n):
    bound = (1 << 32) - (1 << 32) % n
    return next(number for number in stream if number < bound) % n


def with_entropy(key, draw):
    added = draw.get("entropy", {})
    message = b"".join(seat.encode() + b"\0" + bytes.fromhex(added[seat]) for seat in sorted(added))
    return hmac.new(key, message, hashlib.sha256).digest() if added else key


bound, shuffles = None, {}
for update in map(json.loads, sys.stdin):
    for effect in update["effects"]:
        told = effect.get("value")
        if effect["at"] != "/chance" or not isinstance(told, dict):
            continue
        last, opened = told["last"], told["opened"]
        if last and last["kind"] == "roll" and last["draw"] not in shuffles:
            key = bytes.fromhex(last["key"])
            assert hashlib.sha256(key).hexdigest() == bound, update
            stream = numbers(with_entropy(key, last))
            made = [below(stream, last["sides"]) + 1 for _ in last["values"]]
            assert made == last["values"], update
            shuffles[last["draw"]] = None
            print("roll", last["draw"], *made)
        if last and last["kind"] == "shuffle" and last["draw"] not in shuffles:
            dealt = {e["at"]: e["value"] for e in update["effects"] if e["at"].startswith(last["of"] + "/")}
            shuffles[last["draw"]] = (bound, last, [dealt[at] for at in sorted(dealt, key=lambda path: path.split("/"))])
        if opened and shuffles.get(opened["draw"]):
            promised, draw, dealt = shuffles.pop(opened["draw"])
            key = bytes.fromhex(opened["key"])
            assert hashlib.sha256(key).hexdigest() == promised, update
            stream, before = numbers(with_entropy(key, draw)), list(range(len(dealt)))
            for at in range(len(before) - 1, 0, -1):
                other = below(stream, at + 1)
                before[at], before[other] = before[other], before[at]
            # Where each value stood before it was dealt.
            was = dict(zip(before, dealt))
            print("shuffle", opened["draw"], *[was[at] for at in sorted(was)], sep="|")
        bound = told["next"]
