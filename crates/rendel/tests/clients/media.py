"""How the property tester writes the media types that are plain text."""

import schemathesis


@schemathesis.serializer("application/toml", "application/jsonl")
def text(_context, value):
    return str(value).encode()
