"""What HTTP itself has to say of an API's answers: methods without a body, encodings, media types, preferences."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from checkpost.checks.case import Case
from checkpost.checks.records import new_record
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.shown import shown
from checkpost.findings import Finding
from checkpost.model.media import is_json_type
from checkpost.model.preference import SHOW_NOTHING, SHOW_THE_ROW, preferences
from checkpost.model.purpose import Purpose
from checkpost.oracle.same import same
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import Row

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

_READS: tuple[Purpose, ...] = ("list", "read")
_ENCODINGS = ("gzip", "deflate", "zstd")
#: How many rows are looked at in another format.
_MOST_ROWS = 20


async def _usual(case: Case, purpose: Purpose) -> Exchange | None:
    """The list as it was read first, or a row; None where none is known."""
    before = case.state.before
    first = before.exchanges[0] if purpose == "list" and before is not None and before.exchanges else None
    if first is not None and first.request.method == "GET" and not first.request.headers:
        return first
    return await _sent(case, purpose)


async def _sent(
    case: Case, purpose: Purpose, method: str = "", like: Exchange | None = None, **headers: str
) -> Exchange | None:
    """A read of the list, or of its first row, with another method or other headers; None where no row is known.
    It is not held against the contract, which may say nothing of it; ``like`` asks at the same address."""
    before = case.state.before
    key = next(iter(before.by_key), None) if before is not None and purpose == "read" else None
    if not case.has(purpose) or (purpose == "read" and key is None) or case.operation(purpose).method != "GET":
        return None
    if purpose == "read" and method and not case.state.read_safely:
        return None  # a method that may do harm is tried on an own row first
    if purpose == "read":
        case.client.refuse_reading(key)
    operation = case.operation(purpose)
    named = {name.replace("_", "-"): value for name, value in headers.items()}
    url = like.request.url if like is not None else case.client.url(operation, key, purpose=purpose)
    request = Request(method or operation.method, url, case.world.role.name, named)
    case.requests += 1
    return await case.world.session.send(request, case.check.name)


@check("shape.head", needs=("list",), cost=lambda resource: 4)
async def head(case: Case) -> AsyncIterator[Finding]:
    """Is HEAD answered as GET is, without a body?"""
    asked = False
    for purpose in _READS:
        exchange = await _sent(case, purpose, "HEAD", await _usual(case, purpose))
        if exchange is None:
            continue
        answer = exchange.answer
        offered = case.world.contract.operation("HEAD", case.operation(purpose).path) is not None
        if not answer.ok and not offered and answer.failure != "not-http":
            continue
        asked = True
        whole = await _usual(case, purpose)
        if whole is None or not whole.answer.ok:
            continue
        told = ""
        if answer.failure == "not-http":
            told = f"{answer.detail}, so that the connection cannot be used any more"
        elif answer.failure or answer.status != whole.answer.status:
            told = f"the status {answer.status or answer.detail}"
        elif answer.body:
            told = f"a body of {len(answer.body)} bytes"
        elif answer.media_type and answer.media_type != whole.answer.media_type:
            told = f"the media type {answer.media_type}"
        if told:
            yield case.finding(
                "warning" if offered else "note",
                "standard",
                "HEAD is not answered as GET is",
                f"{whole.answer.status} {whole.answer.media_type} without a body (RFC 9110, 9.3.2)",
                told,
                cause="any:head",
                operation=("HEAD", case.operation(purpose).path),
                evidence=[whole, exchange],
            )
    if not asked:
        raise Skipped("HEAD is not offered")


@check("shape.options", needs=("list",), cost=lambda resource: 2)
async def options(case: Case) -> AsyncIterator[Finding]:
    """Does the Allow header of OPTIONS name the methods that the contract has?"""
    asked = False
    for purpose in _READS:
        exchange = await _sent(case, purpose, "OPTIONS")
        stated = exchange.answer.header("allow") if exchange is not None and exchange.answer.ok else None
        if exchange is None or stated is None:
            continue
        asked = True
        path = case.operation(purpose).path
        known = {each.method for each in case.world.contract.operations if each.path == path}
        named = {word.strip().upper() for word in stated.split(",")}
        missing = sorted(known - named)
        if missing:
            offered = case.world.contract.operation("OPTIONS", path) is not None
            yield case.finding(
                "warning" if offered else "note",
                "standard",
                "OPTIONS does not name methods that the contract has",
                f"{', '.join(sorted(known))} (RFC 9110, 10.2.1)",
                f"Allow: {stated}",
                cause="all:options lacks",
                operation=("OPTIONS", path),
                subjects=missing,
                evidence=[exchange],
            )
    if not asked:
        raise Skipped("OPTIONS is not answered with Allow")


@check("shape.encodings", needs=("list",), cost=lambda resource: 4)
async def encodings(case: Case) -> AsyncIterator[Finding]:
    """Is an answer the same however it is compressed, and only as it was asked to be?"""
    plain = await _sent(case, "list", Accept_Encoding="identity")
    if plain is None:
        raise Skipped("the list is no GET")
    if not plain.answer.ok or not plain.answer.parsed[0]:
        raise Blocked("the list cannot be read without compression")
    coded = plain.answer.header("content-encoding")
    if coded not in (None, "identity"):
        yield _encoding(case, "no Content-Encoding", f"Content-Encoding: {coded}", "identity", [plain])
        return
    used = []
    for name in _ENCODINGS:
        exchange = await _sent(case, "list", Accept_Encoding=name)
        if exchange is None:
            continue
        answer = exchange.answer
        coded = answer.header("content-encoding")
        if coded is not None:
            used.append(name)
        if answer.failure in {"timeout", "unreachable", "closed", "dropped"}:
            continue  # no matter of how it is compressed, and told as what it is
        if answer.failure:
            yield _encoding(case, f"a body in {name}, or as it is", answer.detail, name, [plain, exchange])
        elif coded not in (None, "identity", name) and answer.ok:
            yield _encoding(case, f"{name}, or none", f"Content-Encoding: {coded}", name, [exchange])
        elif answer.ok and coded == name and answer.json != plain.answer.json:
            again = await _sent(case, "list", Accept_Encoding="identity")
            if again is not None and again.answer.json == plain.answer.json:
                yield _encoding(case, "the same rows", "other rows", name, [plain, exchange])
    varies = (plain.answer.header("vary") or "").lower()
    if used and "accept-encoding" not in varies and "*" not in varies:
        yield case.finding(
            "note",
            "standard",
            "An answer that may be compressed does not say so to caches",
            "Vary: Accept-Encoding (RFC 9110, 12.5.5)",
            f"Vary: {varies or 'nothing'}",
            cause="everywhere:no vary on encodings",
            purpose="list",
            evidence=[plain],
        )


def _encoding(case: Case, expected: str, observed: str, name: str, evidence: Sequence[Exchange]) -> Finding:
    return case.finding(
        "warning" if name == "identity" else "error",
        "standard",
        "A compressed answer is not what was asked for",
        f"{expected} (RFC 9110, 12.5.3)",
        observed,
        cause="any:encoding",
        purpose="list",
        subjects=[name],
        evidence=evidence,
    )


@check("shape.charset", needs=("list",))
async def charset(case: Case) -> AsyncIterator[Finding]:
    """Are answers in UTF-8, and said to be in nothing else?"""
    exchange = await _usual(case, "list")
    if exchange is None or not exchange.answer.ok or not is_json_type(exchange.answer.media_type):
        raise Skipped("the list is not JSON")
    stated = re.search(r"charset=\"?([\w-]+)", exchange.answer.header("content-type") or "", re.I)
    if stated and stated[1].lower() not in {"utf-8", "utf8", "us-ascii"}:
        yield case.finding(
            "warning",
            "standard",
            "JSON is declared in another charset than UTF-8",
            "UTF-8 (RFC 8259, 8.1)",
            f"charset={stated[1]}",
            cause="everywhere:charset",
            purpose="list",
            evidence=[exchange],
        )


@check("errors.not-acceptable", needs=("list",))
async def not_acceptable(case: Case) -> AsyncIterator[Finding]:
    """Is a media type that there is none of answered 406, where the contract has it, and never with a failure?"""
    exchange = await _sent(case, "list", Accept="application/vnd.checkpost.none")
    if exchange is None:
        raise Skipped("the list is no GET")
    status = exchange.answer.status
    promised = case.operation("list").response(406)
    documented = promised is not None and promised.status == "406"
    if status >= 500 or (documented and exchange.answer.ok):
        yield case.finding(
            "error" if status >= 500 else "warning",
            "standard" if status >= 500 else "contract",
            f"A media type that is not offered is answered {status}",
            "406, or the list as it is (RFC 9110, 12.5.1)" if not documented else "406, as the contract has it",
            str(status),
            cause="everywhere:not acceptable",
            purpose="list",
            evidence=[exchange],
        )


@check("shape.other-formats", needs=("list",), cost=lambda resource: 2)
async def other_formats(case: Case) -> AsyncIterator[Finding]:
    """Are the rows the same in every format that the contract offers for them?"""
    content = [media.name for response in case.operation("list").success() for media in response.content]
    others = [name for name in content if name.endswith("xml") or name in {"text/csv"}]
    if not others or not any(map(is_json_type, content)):
        raise Skipped("the contract offers the list in one format")
    usual = await _sent(case, "list", Accept="application/json")
    rows = case.client.rows_in(usual.answer.json) if usual is not None and usual.answer.ok else None
    if usual is None or rows is None:
        raise Blocked("the list cannot be read as JSON")
    for name in others:
        exchange = await _sent(case, "list", Accept=name)
        if exchange is None or not exchange.answer.ok:
            continue
        told = _compared(case, exchange, rows, name)
        again = await _sent(case, "list", Accept="application/json") if told else None
        if again is not None and case.client.rows_in(again.answer.json) == rows:
            yield case.finding(
                "error",
                "contract",
                f"The list as {name} is not the one as JSON",
                "the same rows",
                told,
                cause=f"format {name}",
                purpose="list",
                subjects=[name],
                evidence=[usual, exchange],
            )


def _compared(case: Case, exchange: Exchange, rows: Sequence[Row], name: str) -> str:
    """What is wrong with a list in another format; empty where nothing is."""
    answer = exchange.answer
    if answer.media_type != name:
        return f"an answer of the type {answer.media_type or 'unknown'}"
    found = _csv_rows(answer.text) if name == "text/csv" else _xml_rows(answer.body, set(case.fields))
    if found is None:
        return f"a body that is no {'CSV' if name == 'text/csv' else 'XML'}"
    if len(found) != len(rows):
        return f"{len(found)} rows, and {len(rows)} as JSON"
    for texts, row in list(zip(found, rows, strict=True))[:_MOST_ROWS]:
        for field, text in texts.items():
            value = row.get(field)
            known = case.fields.get(field)
            if known is None or field not in row or isinstance(value, dict | list):
                continue
            empty = value in (None, "") and text in ("", "null", "NULL")
            if not empty and not same(known, value, text) and str(value).lower() != text.lower():
                return f"{field} = {shown(text, 60)}, and {shown(value, 60)} as JSON"
    return ""


def _csv_rows(text: str) -> list[Mapping[str, str]] | None:
    import csv
    import io

    try:
        return [dict(row) for row in csv.DictReader(io.StringIO(text, newline=""))]
    except csv.Error:
        return None


def _xml_rows(body: bytes, names: set[str]) -> list[Mapping[str, str]] | None:
    """The elements of a document that have children called like fields, as texts by name."""
    from defusedxml.ElementTree import ParseError, fromstring

    try:
        root = fromstring(body)
    except (ParseError, ValueError):
        return None
    found: list[Mapping[str, str]] = []
    for element in root.iter():
        texts = {_local(child): (child.text or "") for child in element if _local(child) in names}
        texts |= {name: value for name, value in element.attrib.items() if name in names}
        if len(texts) >= min(2, len(names)):
            found.append(texts)
    return found


def _local(element: Element) -> str:
    return str(element.tag).rpartition("}")[2]


@check("create.preference", needs=("create", "delete"), creates=True, cost=lambda resource: 2)
async def preference(case: Case) -> AsyncIterator[Finding]:
    """Does an answer show the row, or nothing, as the request prefers?"""
    offered = preferences(case.operation("create"))
    if not offered:
        raise Skipped("the contract has no preference of what an answer shows")
    for asked in sorted(offered):
        exchange, key = await case.create(await new_record(case), f"Prefer: {asked}", headers={"Prefer": asked})
        if not exchange.answer.ok:
            raise Blocked(f"no row could be made ({exchange.answer.status})")
        row: Any = case.client.row_in(exchange.answer)
        wrong = {
            SHOW_THE_ROW: "no row" if row is None else "",
            SHOW_NOTHING: "the row" if row is not None and len(row) > len(key or ()) else "",
        }[asked]
        if wrong:
            yield case.finding(
                "warning",
                "contract",
                "A documented preference is ignored",
                f"{'the row' if asked == SHOW_THE_ROW else 'no row'} for Prefer: {asked} (RFC 7240, 4.2)",
                wrong,
                cause=f"preference {asked}",
                purpose="create",
                subjects=[asked],
                evidence=[exchange],
            )
