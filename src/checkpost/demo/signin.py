"""Logging in and out of the stand-in: a user and a password for a token that lasts until it is given up."""

from __future__ import annotations

import json
import secrets
from collections.abc import MutableMapping

from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.core import BASE
from checkpost.demo.pieces import problems
from checkpost.demo.schemas import Json
from checkpost.demo.seedbank import PASSWORDS

_OUT, _IN = "/logout", "/login"


def sign_in_routes(tokens: MutableMapping[str, tuple[str, str]]) -> list[Route]:
    """The two operations on the tokens that are good now."""

    async def log_in(request: Request) -> Response:
        try:
            body = json.loads(await request.body())
        except ValueError:
            return Refusal(400, "Not readable", "The body is not JSON.").answer()
        known = body if isinstance(body, dict) else {}
        user, password = str(known.get("user")), known.get("password")
        if user not in PASSWORDS or PASSWORDS[user][0] != password:
            return Refusal(401, "Not authenticated", "User or password is wrong.").answer()
        token = f"seedbank-demo-session-{secrets.token_hex(8)}"
        tokens[token] = (user, PASSWORDS[user][1])
        return json_answer({"token": token})

    async def log_out(request: Request) -> Response:
        token = request.headers.get("authorization", "").removeprefix("Bearer ")
        if token not in tokens:
            return Refusal(401, "Not authenticated", "The credentials are not valid.").answer()
        if token.startswith("seedbank-demo-session-"):  # those of the example's .env last
            del tokens[token]
        return Response(status_code=204)

    return [Route(BASE + _IN, log_in, methods=["POST"]), Route(BASE + _OUT, log_out, methods=["POST"])]


def sign_in_paths() -> Json:
    """The two operations as the description has them."""
    text = {"type": "string"}
    credentials = {"type": "object", "required": ["user", "password"], "properties": {"user": text, "password": text}}
    token = {"type": "object", "required": ["token"], "properties": {"token": text}}
    log_in = {
        "operationId": "log_in",
        "summary": "Get a token for a user and a password",
        "security": [{}],
        "requestBody": {"required": True, "content": {"application/json": {"schema": credentials}}},
        "responses": {
            "200": {"description": "The token.", "content": {"application/json": {"schema": token}}},
            **problems({400, 401}),
        },
    }
    log_out = {
        "operationId": "log_out",
        "summary": "Give the token up",
        "security": [{"bearer": []}],
        "responses": {"204": {"description": "The token is no good any more."}, **problems({401})},
    }
    return {_IN: {"post": log_in}, _OUT: {"post": log_out}}
