"""Loading a contract from a file or, with a role's credentials, from a URL."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urljoin, urlsplit

from checkpost.contract.node import Load
from checkpost.contract.reader import load_file
from checkpost.errors import CheckPostError, NotCompleted
from checkpost.profile.credentials import Role
from checkpost.wire.exchange import Answer, Request
from checkpost.wire.loop import run as run_loop
from checkpost.wire.session import Limits, Session

_MOST_HOPS = 5


def loader(role: Role, environment: Mapping[str, str], timeout: float, base_url: str = "") -> Load:
    """A function that gives the bytes at a path or URL. Credentials go to the first URL's host only; a log-in whose URL
    is relative is at ``base_url``. Not to be called in a running event loop."""
    hosts: list[str] = []

    def load(location: str) -> bytes:
        if "://" not in location:
            return load_file(location)
        if urlsplit(location).scheme not in {"http", "https"}:
            raise CheckPostError(f"{location}: contracts are read from files and from http or https URLs.")
        host = urlsplit(location).netloc
        hosts.append(host)
        allowed = role if host == hosts[0] else Role(role.name)
        return run_loop(_fetch(location, allowed, environment, timeout, base_url or location))

    return load


async def _fetch(url: str, role: Role, environment: Mapping[str, str], timeout: float, base_url: str) -> bytes:
    start = url
    async with Session({role.name: role}, environment, Limits(timeout, 2), base_url=base_url) as session:
        for _ in range(_MOST_HOPS):
            same_host = urlsplit(url).netloc == urlsplit(start).netloc
            request = Request(
                "GET",
                url,
                role.name,
                {"Accept": "application/json, application/yaml, */*;q=0.5"},
                credentials="right" if same_host else "none",
            )
            answer = (await session.send(request, "contract")).answer
            target = answer.header("location")
            if 300 <= answer.status < 400 and target:
                url = urljoin(url, target)
                continue
            return _body(start, answer, role)
    raise NotCompleted(f"{start}: the contract's URL redirects over and over; give the URL that it should end at.")


def _body(url: str, answer: Answer, role: Role) -> bytes:
    if answer.failure:
        raise NotCompleted(f"{url}: the contract cannot be fetched ({answer.detail}).")
    if answer.status in {401, 403}:
        who = f"the role {role.name}" if role.credentials else "no credentials"
        raise CheckPostError(
            f"{url}: the contract is protected ({answer.status} with {who}); name a role that may read it as "
            "contract_role in the profile, or save the contract to a file."
        )
    if not answer.ok:
        raise NotCompleted(f"{url}: the contract cannot be fetched ({answer.status}).")
    return answer.body
