"""Reads what a webhook got, with libraries that know nothing of the service: checks each signature and
reads each body as a CloudEvent. Takes a JSON array of calls on standard input; prints the events."""

import json
import sys

from cloudevents.http import from_http
from standardwebhooks import Webhook

asked = json.load(sys.stdin)
verifier = Webhook(asked["secret"])
for call in asked["calls"]:
    verifier.verify(call["body"], call["headers"])
    tampered = call["body"].replace("press", "chill")
    try:
        verifier.verify(tampered, call["headers"])
        raise SystemExit("a changed body passes")
    except Exception as error:
        assert type(error).__name__ == "WebhookVerificationError", error
    event = from_http(call["headers"], call["body"])
    assert event["specversion"] == "1.0", event
    print(json.dumps([event["id"], event["type"], event["source"], event["time"], event.data]))
