"""The wire: sessions against servers that behave oddly, masking, commands to copy."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import json
import os
import subprocess
import tempfile
import time
import unittest
from collections.abc import Mapping
from unittest import mock

from checkpost.model.correction import Correction
from checkpost.model.infer import infer
from checkpost.profile.credentials import Credential, Role, damaged
from checkpost.rows.script import Deeds, script
from checkpost.wire.client import Client
from checkpost.wire.curl import curl
from checkpost.wire.door import Act, Made
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.redaction import Redactor
from checkpost.wire.session import Limits, Session
from checkpost.wire.transport import Connections
from tests.odd_server import OddServer, answer
from tests.support import contract_of


def send(
    request: Request,
    roles: dict[str, Role] | None = None,
    environment: dict[str, str] | None = None,
    timeout: float = 2.0,
) -> Exchange:
    async def work() -> Exchange:
        async with Session(roles or {}, environment or {}, Limits(timeout)) as session:
            return await (session.send(request) if request.safe else session.transmit(request))

    return asyncio.run(work())


class Sessions(unittest.TestCase):
    def failure(self, script: object, method: str = "GET", **server: float) -> tuple[str, int]:
        with OddServer(script, **server) as odd:  # type: ignore[arg-type]
            exchange = send(Request(method, odd.base_url + "/x", ""))
            return exchange.answer.failure, len(odd.requests)

    def test_what_goes_wrong_is_named(self) -> None:
        cases = [
            (lambda line: answer(b"[]", length=50), "truncated"),
            (lambda line: answer(b"[1, 2]", length=2), "not-http"),
            (lambda line: None, "closed"),
            (lambda line: b"no http\r\n\r\n", "not-http"),
        ]
        for answers, failure in cases:
            self.assertEqual(self.failure(answers)[0], failure)

    def test_an_endless_body_ends_at_the_time_limit(self) -> None:
        started = time.monotonic()
        failure, _ = self.failure(lambda line: answer(b"[", length=10**9), drip=0.05)
        self.assertEqual(failure, "timeout")
        self.assertLess(time.monotonic() - started, 3)

    def test_a_huge_body_is_not_read_to_its_end(self) -> None:
        with OddServer(lambda line: answer(b"x" * (21 * 2**20))) as odd:
            self.assertEqual(send(Request("GET", odd.base_url, ""), timeout=10).answer.failure, "too-large")

    def test_only_safe_requests_are_sent_again(self) -> None:
        self.assertEqual(self.failure(lambda line: None, "GET"), ("closed", 3))
        self.assertEqual(self.failure(lambda line: None, "POST"), ("closed", 1))

    def test_a_connection_that_ends_just_behind_a_failure_may_have_ended_for_that(self) -> None:
        def script(line: str) -> bytes | None:
            if "/slow" in line:
                time.sleep(0.5)
            return None if "/second" in line else answer(b"{}", "500 Failed" if "/first" in line else "200 OK")

        with OddServer(script) as odd:

            async def work(slow: bool) -> list[str]:
                async with Connections(5, 4) as connections:
                    beside = asyncio.create_task(connections("GET", odd.base_url + "/slow", {}, None))
                    await (asyncio.sleep(0.05) if slow else beside)
                    told = [(await connections("POST", odd.base_url + at, {}, b"{}")) for at in ("/first", "/second")]
                    await beside
                    return [each.failure for each in told]

            self.assertEqual(asyncio.run(work(True)), ["", "dropped"])
            # by itself it has a connection of its own
            self.assertEqual(asyncio.run(work(False)), ["", "closed"])

    def test_requests_that_change_something_have_connections_of_their_own_once_one_was_closed_under_them(self) -> None:
        opened: list[int] = []
        asked: list[str] = []

        async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            opened.append(1)
            while head := await reader.read(65536):
                asked.append(head.split()[0].decode())
                if asked.count("DELETE") == 1 and asked[-1] == "DELETE":
                    break
                writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n[]")
            writer.close()

        async def work() -> list[tuple[str, int]]:
            server = await asyncio.start_server(serve, "127.0.0.1", 0)
            url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/x"
            async with server, Connections(5, 4) as connections:
                methods = ("GET", "DELETE", "DELETE", "DELETE", "GET", "GET")
                return [((await connections(each, url, {}, None)).failure, len(opened)) for each in methods]

        seen = asyncio.run(work())
        self.assertEqual([failure for failure, _ in seen], ["", "closed", "", "", "", ""])
        self.assertEqual([number for _, number in seen], [1, 1, 2, 3, 4, 4])

    def test_an_api_that_comes_back_is_waited_for(self) -> None:
        gone = Answer(0, (), b"", "unreachable", "nobody there")

        def told(answers: list[Answer]) -> tuple[list[int], int]:
            left = list(answers)

            async def transport(method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
                return left.pop(0) if left else gone

            async def work() -> list[int]:
                session = Session({"r": Role("r", ())}, {}, Limits(), transport=transport)
                with mock.patch.multiple("checkpost.wire.session", LONGEST_OUTAGE=0.2, _BETWEEN_CALLS=0.01):
                    requests = [Request(method, "http://127.0.0.1:1/x", "r") for method in ("GET", "POST", "GET")]
                    sent = [await (session.send if each.safe else session.transmit)(each) for each in requests]
                return [each.answer.status for each in sent]

            return asyncio.run(work()), len(answers) - len(left)

        self.assertEqual(told([Answer(200), gone, gone, Answer(201), Answer(200)]), ([200, 201, 200], 5))
        self.assertEqual(told([gone, Answer(201), Answer(200)])[0], [201, 200, 0], "nobody has answered yet")

    def test_retry_after_is_honoured(self) -> None:
        calls: list[float] = []

        def script(line: str) -> bytes:
            calls.append(time.monotonic())
            busy = answer(b"{}", "429 Too Many Requests", extra="Retry-After: 1\r\n")
            return busy if len(calls) == 1 else answer(b"[]")

        with OddServer(script) as odd:
            exchange = send(Request("GET", odd.base_url, ""))
        self.assertEqual((exchange.answer.status, exchange.attempts), (200, 2))
        self.assertGreaterEqual(calls[1] - calls[0], 0.95)

    def test_what_may_change_rows_is_sent_once_and_only_by_the_ledger(self) -> None:
        busy = answer(b"{}", "503 Service Unavailable", extra="Retry-After: 0\r\n")
        with OddServer(lambda line: busy) as odd:
            self.assertEqual(send(Request("POST", odd.base_url, "")).answer.status, 503)
            self.assertEqual(len(odd.requests), 1)

        async def ask() -> None:
            async with Session({}, {}, Limits()) as session:
                await session.send(Request("DELETE", "http://127.0.0.1:1/", ""))

        with self.assertRaises(ValueError):
            asyncio.run(ask())

    def test_writes_that_are_answered_fast_go_one_at_a_time(self) -> None:
        async def most_at_once(seconds: float, together: bool) -> int:
            under_way = most = 0

            async def late(method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
                nonlocal under_way, most
                under_way += 1
                most = max(most, under_way)
                await asyncio.sleep(seconds)
                under_way -= 1
                return Answer(204)

            async with Session({}, {}, Limits(), transport=late) as session:
                request = Request("DELETE", "http://127.0.0.1:1/1", "")
                for _ in range(5):
                    await session.transmit(request)
                async with session.pace.together() if together else contextlib.nullcontext():
                    await asyncio.gather(*(session.transmit(request) for _ in range(8)))
            return most

        for seconds, together, expected in ((0.001, False, 1), (0.001, True, 8), (0.05, False, 8)):
            self.assertEqual(asyncio.run(most_at_once(seconds, together)), expected, (seconds, together))

    def test_redirects_are_not_followed(self) -> None:
        with OddServer(lambda line: answer(b"", "302 Found", extra="Location: /elsewhere\r\n")) as odd:
            self.assertEqual(send(Request("GET", odd.base_url + "/x", "")).answer.status, 302)
            self.assertEqual(odd.requests, ["GET /x HTTP/1.1"])

    def test_credentials_go_where_they_belong(self) -> None:
        role = Role(
            "r",
            (
                Credential("query", "key", "${K}"),
                Credential("header", "X-Key", "${K}"),
                Credential("header", "Authorization", "Basic u:${K}", encoded=True),
            ),
        )
        with OddServer(lambda line: answer(b"[]")) as odd:
            send(Request("GET", odd.base_url + "/a?b=1", "r"), {"r": role}, {"K": "s/1"})
            send(Request("GET", odd.base_url + "/a", "r", credentials="none"), {"r": role}, {"K": "s/1"})
            send(Request("GET", odd.base_url + "/a", "r", credentials="wrong"), {"r": role}, {"K": "s/1"})
            self.assertEqual(odd.requests[:2], ["GET /a?b=1&key=s%2F1 HTTP/1.1", "GET /a HTTP/1.1"])
            self.assertNotIn("s%2F1", odd.requests[2])
        self.assertEqual(role.credentials[2].value({"K": "p"}), "Basic " + base64.b64encode(b"u:p").decode())

    def test_a_damaged_credential_differs_in_form_only(self) -> None:
        for value in ("Bearer abc", "x", "kk", "by"):
            self.assertNotEqual(damaged(value), value)
            self.assertEqual(len(damaged(value)), max(len(value), 1))


class Masking(unittest.TestCase):
    def test_secrets_are_masked_in_every_writing(self) -> None:
        secret = 'top/s"ecret é'
        redactor = Redactor({"API_TOKEN": secret})
        texts = [
            secret,
            "url?k=top%2Fs%22ecret%20%C3%A9",
            'json "top/s\\"ecret \\u00e9"',
            base64.b64encode(secret.encode()).decode(),
        ]
        for text in texts:
            self.assertIn("${API_TOKEN}", redactor.text(text), text)
            self.assertNotIn("ecret", redactor.text(text))
        nested = redactor.value({"a": [secret, {secret: 1}]})
        self.assertEqual(nested, {"a": ["${API_TOKEN}", {"${API_TOKEN}": 1}]})

    def test_headers_that_carry_credentials_are_masked_whatever_they_hold(self) -> None:
        both = Redactor({"PASSWORD": "s3cret-word"}, ["clerk:s3cret-word"])
        for form in (base64.b64encode, base64.urlsafe_b64encode):
            echoed = form(b"clerk:s3cret-word").decode()
            self.assertNotIn(echoed.rstrip("="), both.text(f'{{"seen": "Basic {echoed}"}}'))
        short = Redactor({"PASSWORD": "role"})
        word = "${PASSWORD}"
        self.assertEqual(
            short.value(["the role", "roles", "?key=role&a=b"]), [f"the {word}", "roles", f"?key={word}&a=b"]
        )
        redactor = Redactor({})
        self.assertEqual(redactor.header("Authorization", "Bearer abc"), "Bearer ***")
        self.assertEqual(redactor.header("Set-Cookie", "session=abc"), "***")
        self.assertEqual(redactor.header("Content-Type", "text/plain"), "text/plain")


class Copying(unittest.TestCase):
    def test_the_command_sends_the_same_request(self) -> None:
        body = '{"a": "O\'Brien \\"$HOME\\" `x` é"}'.encode()
        role = Role("r", (Credential("header", "X-Key", "${CHECKPOST_TEST_KEY}"),))
        received: list[str] = []
        with OddServer(lambda line: answer(b"{}")) as odd:
            request = Request("POST", odd.base_url + "/a%20b?c='d'", "r", {"Content-Type": "application/json"}, body)
            command = curl(request, role)
            self.assertNotIn("secret-value", command)
            environment = {"PATH": "/usr/bin:/bin:/usr/local/bin", "CHECKPOST_TEST_KEY": "secret-value"}
            done = subprocess.run(["sh", "-c", command], env=environment, capture_output=True, text=True, timeout=20)
            received += odd.requests
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(received, ["POST /a%20b?c='d' HTTP/1.1"])


class Hostile(unittest.TestCase):
    def test_names_of_a_contract_are_no_code(self) -> None:
        name = "id'\\\"]); import os; os.system('touch pwned1') # `touch pwned2` $(touch pwned3)"
        row = {
            "type": "object",
            "properties": {name: {"type": "integer", "readOnly": True}, "label": {"type": "string"}},
        }
        content = {"content": {"application/json": {"schema": row}}}
        paths = {
            "/tags": {"post": {"requestBody": content, "responses": {"201": {"description": "", **content}}}},
            "/tags/{key}": {
                "parameters": [{"name": "key", "in": "path", "required": True, "schema": {"type": "integer"}}],
                "get": {"responses": {"200": {"description": "", **content}}},
                "delete": {"responses": {"204": {"description": ""}}},
            },
        }
        contract = contract_of({"openapi": "3.0.3", "info": {"title": "t", "version": "1"}, "paths": paths})
        [resource] = infer(contract, {"tags": Correction(key=(name,))}).resources
        key = 'X-`touch pwned4`-$(touch pwned5)"; touch pwned6; "'
        roles = {"r": Role("r", (Credential("header", key, "${SECRET} $(touch pwned7) `touch pwned8`"),))}
        made = json.dumps({name: 7, "label": "x"}).encode()
        with OddServer(lambda line: answer(made, "201 Created")) as odd, tempfile.TemporaryDirectory() as folder:
            client = Client(Session(roles, {}, Limits()), odd.base_url, resource, "r")
            body = {"Content-Type": "application/json", "X-Odd": "$(touch pwned9)"}
            sent = [
                Exchange(1, "", Request("POST", f"{odd.base_url}/tags", "r", body, b"{}"), Answer(201, (), made), 0),
                Exchange(2, "", Request("DELETE", f"{odd.base_url}/tags/7", "r"), Answer(204), 0),
            ]
            acts = {1: Act("create", (Made("tags", {}),)), 2: Act("remove", (), (("tags", (7,)),))}
            deeds = Deeds({each.number: each for each in sent}, acts, {1: [("tags", (7,))]})
            command = script(sent[1:], roles, deeds, lambda name: client)
            self.assertIn("KEY=$(", command)
            subprocess.run(
                ["sh", "-c", command], cwd=folder, capture_output=True, timeout=30, env={**os.environ, "SECRET": "s"}
            )
            self.assertEqual(os.listdir(folder), [])
            self.assertEqual([line.rpartition(" ")[0] for line in odd.requests], ["POST /tags", "DELETE /tags/7"])

    def test_a_row_whose_key_nothing_tells_is_not_named_in_a_command(self) -> None:
        document = {"openapi": "3.0.3", "info": {"title": "t", "version": "1"}, "paths": {}}
        schema = {
            "type": "object",
            "properties": {"id": {"type": "integer", "readOnly": True}, "a": {"type": "string"}},
        }
        content = {"content": {"application/json": {"schema": schema}}}
        document["paths"] = {
            "/tags": {"post": {"requestBody": content, "responses": {"201": {"description": ""}}}},
            "/tags/{id}": {
                "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}],
                "delete": {"responses": {"204": {"description": ""}}},
            },
        }
        [resource] = infer(contract_of(document)).resources
        client = Client(Session({}, {}, Limits()), "http://127.0.0.1:1", resource, "")
        made = Exchange(1, "", Request("POST", "http://127.0.0.1:1/tags", "", {}, b"{}"), Answer(201, (), b'"made"'), 0)
        gone = Exchange(2, "", Request("DELETE", "http://127.0.0.1:1/tags/7", ""), Answer(204), 0)
        acts = {1: Act("create", (Made("tags", {}),)), 2: Act("remove", (), (("tags", (7,)),))}
        deeds = Deeds({1: made, 2: gone}, acts, {1: [("tags", (7,))]})
        self.assertEqual(script([made, gone], {}, deeds, lambda name: client), "")
        self.assertEqual(script([gone], {}, deeds, lambda name: client), "")
        self.assertTrue(script([made], {}, deeds, lambda name: client))


class LongBodies(unittest.TestCase):
    def test_a_body_that_no_argument_takes_is_written_behind_the_command(self) -> None:
        body = b'["' + b"x" * 150_000 + b"'\"]"
        with OddServer(lambda _: answer(b"[]")) as server:
            command = curl(Request("POST", server.base_url, "", {"Content-Type": "application/json"}, body), None)
            self.assertIn("--data-binary @-", command)
            done = subprocess.run(["sh"], input=command, capture_output=True, text=True, timeout=30)
        self.assertEqual(done.returncode, 0, done.stderr)
        short = curl(Request("POST", "http://127.0.0.1/", "", {}, b"[]"), None)
        self.assertIn("--data-binary '[]'", short)


class Answers(unittest.TestCase):
    def test_headers_whatever_their_case_and_bodies_that_are_no_json(self) -> None:
        got = Answer(200, (("content-TYPE", "Application/JSON; charset=utf-8"),), b"\xff")
        self.assertEqual(got.media_type, "application/json")
        self.assertEqual(got.parsed, (False, None))
        self.assertEqual(Answer(200, (), b'{"a": 1}').json, {"a": 1})


if __name__ == "__main__":
    unittest.main()
