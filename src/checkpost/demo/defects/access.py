"""Credentials that are not asked for, or not looked at."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request

from checkpost.demo.api import Caller, TableApi
from checkpost.demo.defects.registry import defect


@defect("credentials-not-needed", "collectors", "GET", "access", "The list answers without credentials.")
class CredentialsNotNeeded(TableApi):
    def permit(self, caller: Any, action: str) -> None:
        if action != "read" or caller.user is not None:
            super().permit(caller, action)


@defect("wrong-credentials-taken", "loans", "GET", "access", "A damaged token is taken for a good one.")
class WrongCredentialsTaken(TableApi):
    def caller(self, request: Request) -> Caller:
        header = request.headers.get("authorization", "")
        for token, who in self.tokens.items():
            if header.removeprefix("Bearer ")[:-4] == token[:-4]:
                return Caller(*who)
        return super().caller(request)
