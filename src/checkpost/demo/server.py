"""Running the stand-in: in this process, or in one of its own."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from types import TracebackType
from typing import Any

from checkpost.demo import seedbank
from checkpost.demo.api import BASE
from checkpost.demo.database import Database, Row
from checkpost.demo.spellings import USUAL
from checkpost.errors import CheckPostError

#: The style in which nothing is translated.
PLAIN = "plain"
_READY = "stand-in ready at "


@dataclass(frozen=True)
class Address:
    """Where a running stand-in answers."""

    base_url: str

    @property
    def contract_url(self) -> str:
        return self.base_url.removesuffix(BASE) + "/openapi.yaml"


class InProcess:
    """The stand-in on a thread of this process, with its database at hand: for tests and benchmarks."""

    def __init__(
        self, defects: Sequence[str] = (), database: str = ":memory:", spelling: str = USUAL, style: str = PLAIN
    ) -> None:
        self._server, self._socket, self.database = _prepared(defects, database, 0, spelling, style)
        self.app = self._server.config.app
        self.address = Address(f"http://127.0.0.1:{self._socket.getsockname()[1]}{BASE}")
        self._thread = threading.Thread(target=self._server.run, args=([self._socket],), daemon=True)

    def __enter__(self) -> InProcess:
        self._thread.start()
        while not self._server.started:
            time.sleep(0.005)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._server.should_exit = self._server.force_exit = True
        self._thread.join(5)
        self._socket.close()

    def contents(self) -> dict[str, list[Row]]:
        """Every row of every table, ordered by key."""
        return {
            table.name: self.database.select(table, "ORDER BY " + ", ".join(table.key)) for table in seedbank.TABLES
        }


def listen(port: int = 0) -> socket.socket:
    """A listening loopback socket. The protocol is named, since asyncio turns Nagle's algorithm off only
    then, and with it on each small answer waits 40 ms for an acknowledgement. Raises OSError."""
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind(("127.0.0.1", port))
    except OSError:
        listening.close()
        raise
    listening.listen(128)
    return listening


def _prepared(
    defects: Sequence[str], database: str, port: int, spelling: str, style: str
) -> tuple[Any, socket.socket, Database]:
    import uvicorn

    from checkpost.demo.api import build_app
    from checkpost.demo.defects import handlers
    from checkpost.demo.styles import STYLES, styled

    stored = Database(database, seedbank.TABLES, seedbank.rows())
    app: Any = build_app(seedbank.TABLES, stored, seedbank.TOKENS, handlers(defects), spelling)
    if style != PLAIN:
        app = styled(app, STYLES[style])
    listening = listen(port)
    server = uvicorn.Server(
        uvicorn.Config(app, log_level="error", access_log=False, lifespan="off", timeout_graceful_shutdown=1)
    )
    return server, listening, stored


def serve(defects: Sequence[str], database: str, port: int, spelling: str = USUAL, style: str = PLAIN) -> None:
    """Serve until interrupted; the first line on standard output says where."""
    try:
        server, listening, _ = _prepared(defects, database, port, spelling, style)
    except OSError as error:
        raise CheckPostError(f"Port {port} cannot be used ({error.strerror}); choose another with --port.") from None
    print(f"{_READY}http://127.0.0.1:{listening.getsockname()[1]}{BASE}", flush=True)
    with contextlib.suppress(KeyboardInterrupt):
        server.run([listening])


@contextlib.contextmanager
def own_process(
    defects: Sequence[str] = (), database: str = ":memory:", spelling: str = USUAL, port: int = 0, style: str = PLAIN
) -> Iterator[Address]:
    """The stand-in in a process of its own, on a loopback port (a free one for 0), stopped at the end of the
    block."""
    command = [sys.executable, "-m", "checkpost", "demo", "--serve", "--port", str(port), "--database", database]
    command += ["--spelling", spelling, "--style", style]
    for name in defects:
        command += ["--defect", name]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None and process.stderr is not None
        line = process.stdout.readline()
        while line and not line.startswith(_READY):
            line = process.stdout.readline()
        if not line:
            raise CheckPostError(f"The stand-in did not start: {process.stderr.read().strip()}")
        yield Address(line.removeprefix(_READY).strip())
    finally:
        process.terminate()
        process.communicate()
