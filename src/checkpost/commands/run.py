"""``checkpost run``: carry out the checks, show and store what was found."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from checkpost.commands.options import (
    Aimed,
    Chosen,
    check_families,
    chosen_resources,
    failing,
    profile_of,
    with_choice,
    with_target,
)
from checkpost.commands.options import fail_on as failing_on
from checkpost.errors import CLEAN, FINDINGS, NOT_COMPLETED, CheckPostError

if TYPE_CHECKING:
    from checkpost.engine.budget import Budget
    from checkpost.engine.plan import Planned
    from checkpost.engine.run import Result
    from checkpost.engine.target import Target
    from checkpost.rows.journal import Entry
    from checkpost.wire.session import Limits

Json = dict[str, Any]


@click.command()
@with_target
@with_choice
@click.option("--seed", type=int, default=1, show_default=True, help="Makes generated values repeatable.")
@click.option("--concurrency", type=click.IntRange(1, 256), default=16, show_default=True, help="Requests at once.")
@click.option("--rate", type=click.FloatRange(0.1), metavar="N", help="Requests in a second at the most.")
@click.option("--timeout", type=click.FloatRange(0.1), default=10.0, show_default=True, help="Seconds for one request.")
@click.option(
    "--most-rows",
    type=click.IntRange(1),
    default=2000,
    show_default=True,
    metavar="N",
    help="Read lists of up to N rows whole; longer ones are judged by a sample.",
)
@click.option("--max-requests", type=click.IntRange(1), metavar="N", help="Begin no check after N requests.")
@click.option("--max-time", type=click.FloatRange(0.1), metavar="S", help="Begin no check after S seconds.")
@click.option(
    "--out",
    "reports",
    multiple=True,
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write a report, as often as given; the ending names the format: .html, .json, .junit.xml, .sarif, .har, "
    ".md, .csv.",
)
@click.option("--hold", is_flag=True, help="Leave some rows behind, for --verify-held.")
@click.option(
    "--verify-held",
    is_flag=True,
    help="Only look whether the rows of an earlier --hold are as they were, and remove them.",
)
@failing_on("The least severity that makes the run fail.")
def run(
    aimed: Aimed,
    chosen: Chosen,
    seed: int,
    concurrency: int,
    rate: float | None,
    timeout: float,
    most_rows: int,
    max_requests: int | None,
    max_time: float | None,
    reports: tuple[Path, ...],
    hold: bool,
    verify_held: bool,
    fail_on: str,
) -> None:
    """Run the checks of CONTRACT (or of the profile's contract) against a live API.

    Rows are written only on this machine (a loopback address) or where --allow-writes names the host, and
    are removed again.
    """
    from checkpost.engine.budget import Budget
    from checkpost.engine.plan import plan
    from checkpost.engine.target import aim
    from checkpost.report.files import writer_of
    from checkpost.wire.session import Limits

    check_families(chosen.families)
    for report in reports:
        writer_of(report)  # before anything is sent
    target = aim(profile_of(aimed, chosen.allow_writes), chosen.read_only, timeout, aimed.credentials)
    limits = Limits(timeout, concurrency, most_rows, rate)
    target = with_answers(target, limits)
    resources = chosen_resources(chosen.resources, [resource.name for resource in target.model.resources])
    if hold and verify_held:
        raise CheckPostError("--hold and --verify-held are two runs: hold first, verify when the API is up again.")
    if verify_held:
        result = verify(target, resources, limits, seed)
    else:
        holding: Any = "hold.left" if hold else ""
        planned = plan(
            target.model,
            chosen.families,
            resources,
            target.no_writes,
            holding,
            target.actors,
            target.profile.witness is not None,
        )
        result = carry_out(target, planned, limits, seed, budget=Budget(max_requests, max_time))
    document = keep(result, reports)
    show(document)
    sys.exit(exit_status(document, fail_on))


def with_answers(target: Target, limits: Limits) -> Target:
    """The target with what its API has to be asked first, if the contract leaves that open."""
    from checkpost.engine.learn import learn_now, open_questions

    if not open_questions(target):
        return target
    target, _ = learn_now(target, limits)
    if not target.model.resources:
        raise CheckPostError(
            f"{target.contract.location}: the contract has one path for all tables, and nothing names them; "
            "list them in the profile, as in 'tables: [NAME, …]'."
        )
    return target


def verify(target: Target, resources: tuple[str, ...], limits: Any, seed: int) -> Result:
    """Look at the rows that earlier runs have left at this API, and remove them. Raises CheckPostError."""
    from dataclasses import replace

    from checkpost.engine.leftover import sweep_journal
    from checkpost.engine.plan import plan
    from checkpost.rows.journal import journals, read_journal

    folder = target.profile.folder
    held = [
        each for each in map(read_journal, journals(folder)) if any(entry.held is not None for entry in each.entries)
    ]
    here = [each for each in held if each.heading.get("base_url") == target.base_url and not each.running]
    if not here:
        others = ", ".join(sorted({str(each.heading.get("base_url")) for each in held}))
        there = f"; rows are held at {others}" if others else ""
        raise CheckPostError(f"No rows are held at {target.base_url}{there}. checkpost run --hold leaves some there.")
    waiting = [entry for each in here for entry in each.entries if entry.held is not None]
    planned = plan(target.model, (), resources, target.no_writes, "hold.kept")
    result = carry_out(target, planned, limits, seed, waiting)
    if target.no_writes:
        click.echo(f"The held rows stay: {target.no_writes}.", err=True)
        return result
    swept = [sweep_journal(each, folder, limits.timeout, held=True) for each in here]
    return replace(result, left=tuple(row for each in swept for row in each.left))


def carry_out(
    target: Target,
    planned: list[Planned],
    limits: Any,
    seed: int,
    waiting: Sequence[Entry] = (),
    budget: Budget | None = None,
) -> Result:
    """Run the checks with a progress bar on a terminal; an interrupt ends them early, rows removed."""
    import asyncio
    import signal

    from checkpost.engine.budget import UNLIMITED
    from checkpost.engine.run import run as run_checks
    from checkpost.errors import NotCompleted
    from checkpost.wire.loop import run as run_loop

    async def work() -> Result:
        stop = asyncio.Event()
        loop = asyncio.get_running_loop()

        def interrupted(name: signal.Signals) -> None:
            stop.set()
            loop.remove_signal_handler(name)  # a second one ends the process at once
            click.echo("\nStopping; the rows made so far are removed first.", err=True)

        for name in (signal.SIGINT, signal.SIGTERM):
            try:
                loop.add_signal_handler(name, interrupted, name)
            except (NotImplementedError, RuntimeError):  # not on this system, or not on the main thread
                break
        with _progress(len(planned)) as advance:
            return await run_checks(target, planned, limits, seed, advance, stop, waiting, budget=budget or UNLIMITED)

    try:
        return run_loop(work())
    except KeyboardInterrupt:
        raise NotCompleted("Interrupted before every row was removed; checkpost sweep removes the rest.") from None


def _progress(total: int) -> Any:
    import contextlib

    if not sys.stderr.isatty():
        return contextlib.nullcontext(lambda done, count, label: None)

    @contextlib.contextmanager
    def bar() -> Any:
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

        from checkpost.report.console import plain_console

        columns = (
            BarColumn(28, complete_style="cyan", finished_style="cyan"),
            MofNCompleteColumn(),
            TimeElapsedColumn(),
            TextColumn("{task.description}"),
        )
        with Progress(*columns, console=plain_console(stderr=True), transient=True) as progress:
            task = progress.add_task("reading the lists", total=total)
            yield lambda done, count, label: progress.update(task, completed=done, description=label)

    return bar()


def keep(result: Result, reports: tuple[Path, ...] = ()) -> Json:
    """Store a run with its exchanges and write its reports; the run's document."""
    from checkpost.report.document import document, exchange_document, redactor_of
    from checkpost.report.files import write_files
    from checkpost.store.runs import load_exchanges, save

    made, folder = document(result), result.target.profile.folder
    redactor = redactor_of(result)
    save(folder, made, (exchange_document(each, redactor) for each in result.exchanges))
    write_files(reports, made, lambda: load_exchanges(folder, made["run"]["id"]))
    return made


def show(document: Json) -> None:
    """Print a run as a person reads it."""
    from checkpost.report.console import plain_console
    from checkpost.report.terminal import show_run

    console = plain_console()
    show_run(document, console)


def exit_status(document: Json, least: str) -> int:
    """What the process ends with: see ``checkpost.errors``."""
    from checkpost.report.words import is_judged

    summary = document["summary"]
    harmed = any(each["certain"] for each in summary["harmed"])
    if document["run"]["interrupted"] or summary["left"] or harmed:
        return NOT_COMPLETED
    if any(summary["findings"][severity] for severity in failing(least)):
        return FINDINGS
    return CLEAN if any(summary["findings"].values()) or is_judged(document) else NOT_COMPLETED
