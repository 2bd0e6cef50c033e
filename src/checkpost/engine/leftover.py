"""Removing what an earlier run's journal names, with what that journal says of the API."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from checkpost.contract.reader import read_contract
from checkpost.engine.addressing import with_keys
from checkpost.engine.learn import learn_now, open_questions
from checkpost.engine.target import Target, understood
from checkpost.errors import CheckPostError
from checkpost.model.resource import Resource
from checkpost.profile.credentials import Credential, Role
from checkpost.profile.profile import Profile, read_environment, read_profile, require_variables
from checkpost.rows.journal import Book, FileLog, Journal, Leftover, Log
from checkpost.rows.ledger import Ledger
from checkpost.rows.settle import Settlement, Waits, settle
from checkpost.wire.client import Client
from checkpost.wire.fetch import loader
from checkpost.wire.session import Limits, Session
from checkpost.wire.transport import Transport


def target_of(leftover: Leftover, folder: Path, timeout: float) -> Target:
    """The API that a journal's run was aimed at, understood as that run did. Not to be called in a running event loop.
    Raises CheckPostError."""
    heading = leftover.heading
    if not heading:
        raise CheckPostError(f"{leftover.path}: the journal has no heading; remove it if its run sent nothing.")
    file = heading.get("profile")
    profile = read_profile(Path(file)) if file else Profile(folder, contract=heading["contract"])
    role = profile.roles.get(heading["role"]) or Role(
        heading["role"], tuple(Credential(**each) for each in heading["credentials"])
    )
    environment = read_environment(folder)
    require_variables(role, environment, profile)
    reader = profile.roles.get(profile.contract_role or "", Role("public"))
    read = loader(reader, environment, timeout, heading["base_url"])
    contract, model = understood(read_contract(heading["contract"], read), profile)
    target = Target(contract, model, heading["base_url"], role, profile, environment, "")
    return learn_now(target, Limits(timeout, 8))[0] if open_questions(target) else target


async def swept(
    target: Target,
    book: Book,
    log: Log,
    timeout: float,
    held: bool = False,
    age: float = 0.0,
    forget: bool = False,
    waits: Waits = lambda seconds: None,
    transport: Transport | None = None,
) -> Settlement:
    """Remove the rows that a journal's entries stand for, those that are ``held`` on purpose only if that is said;
    ``age`` is how many seconds have passed since the run's last request. What was seen is added to the journal's
    ``log``, which is removed if nothing is left."""
    heading, model = book.heading, with_keys(target, book.keys).model
    if held:
        book = replace(book, entries={number: replace(each, held=None) for number, each in book.entries.items()})
    roles = {**target.profile.roles, target.role.name: target.role}
    limits = Limits(timeout, 8)
    async with Session(roles, target.environment, limits, base_url=target.base_url, transport=transport) as session:
        journal = Journal(log, book)

        def client_of(resource: Resource, role: str) -> Client:
            within = book.above.get(resource.name, ())
            sees_all = target.role.name if role != target.role.name else ""
            return Client(session, target.base_url, resource, role, None, within, sees_all, ledger)

        def reach(table: str) -> Client | None:
            resource = model.resource(table)
            return client_of(resource, target.role.name) if resource is not None else None

        def as_role(table: str, role: str) -> Client | None:
            resource = model.resource(table)
            return client_of(resource, role) if resource is not None and session.usable(role) else None

        by_filter = target.profile.writes_by_filter or bool(heading.get("by_filter"))
        ledger = Ledger(session, journal, heading["mark"], reach, limits.rows, by_filter)
        ledger.take_up(book)
        settled = await settle(ledger, as_role, [target.role.name, *roles], timeout, age, waits)
        if forget:
            settled = _forgotten(journal, settled)
        journal.finish()
    return settled


def _forgotten(journal: Journal, settled: Settlement) -> Settlement:
    """Close the entries of which nothing is certain, since the user has looked."""
    certain = [each for each in settled.left if each.certain]
    stays = {(each.table, each.key) for each in certain}
    loose = [each for each in journal.entries() if each.held is None and (each.resource, each.named) not in stays]
    journal.settle([each.number for each in loose], "the user")
    return replace(settled, left=tuple(certain))


def sweep_journal(
    leftover: Leftover,
    folder: Path,
    timeout: float,
    held: bool = False,
    forget: bool = False,
    waits: Waits = lambda seconds: None,
) -> Settlement:
    """Remove what a run has left behind, by its journal. ``forget`` closes what nothing can be told of. Raises
    CheckPostError."""
    import time

    from checkpost.wire.loop import run as run_loop

    target = target_of(leftover, folder, timeout)
    age = time.time() - leftover.path.stat().st_mtime
    return run_loop(swept(target, leftover.book, FileLog(leftover.path, new=False), timeout, held, age, forget, waits))
