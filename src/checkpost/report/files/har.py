"""HAR 1.2: every exchange of the run, for programs that show HTTP traffic."""

from __future__ import annotations

import json
from urllib.parse import parse_qsl, urlsplit

from checkpost.report.files import Exchanges, Json

ENDING = ".har"


def write(document: Json, exchanges: Exchanges) -> str:
    run = document["run"]
    log = {
        "version": "1.2",
        "creator": {"name": "Check Post", "version": run["checkpost"]},
        "pages": [],
        "entries": [_entry(exchange) for exchange in exchanges()],
    }
    return json.dumps({"log": log}, ensure_ascii=False, indent=1) + "\n"


def _headers(pairs: list[list[str]]) -> list[Json]:
    return [{"name": name, "value": value} for name, value in pairs]


def _type(pairs: list[list[str]]) -> str:
    return next((value for name, value in pairs if name.lower() == "content-type"), "")


def _entry(exchange: Json) -> Json:
    request, answer = exchange["request"], exchange["answer"]
    milliseconds = round(exchange["seconds"] * 1000, 3)
    sent: Json = {
        "method": request["method"],
        "url": request["url"],
        "httpVersion": "HTTP/1.1",
        "cookies": [],
        "headers": _headers(request["headers"]),
        "queryString": [
            {"name": name, "value": value}
            for name, value in parse_qsl(urlsplit(request["url"]).query, keep_blank_values=True)
        ],
        "headersSize": -1,
        "bodySize": len((request["body"] or "").encode("utf-8", "replace")),
    }
    if request["body"] is not None:
        sent["postData"] = {"mimeType": _type(request["headers"]), "text": request["body"]}
    body = answer["body"] or ""
    return {
        "startedDateTime": exchange["started"],
        "time": milliseconds,
        "request": sent,
        "response": {
            "status": answer["status"],
            "statusText": answer["detail"],
            "httpVersion": "HTTP/1.1",
            "cookies": [],
            "headers": _headers(answer["headers"]),
            "content": {
                "size": len(body.encode("utf-8", "replace")),
                "mimeType": _type(answer["headers"]),
                "text": body,
            },
            "redirectURL": next((value for name, value in answer["headers"] if name.lower() == "location"), ""),
            "headersSize": -1,
            "bodySize": -1,
        },
        "cache": {},
        "timings": {"send": 0, "wait": milliseconds, "receive": 0},
        "comment": f"{exchange['number']}: {exchange['check']}, as {exchange['role']}",
    }
