"""By construction: nothing but the ledger can send a request that may create, change or remove rows."""

from __future__ import annotations

import ast
import unittest
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src" / "checkpost"
#: Where each name that leads to the network may stand, beside the stand-in, which is a server.
DOORS = {
    "transmit": {"wire/session.py", "rows/ledger.py"},  # one attempt at a request of any method
    "_attempt": {"wire/session.py"},
    "_transport": {"wire/session.py"},
    "sign_off": {"wire/session.py", "checks/access.py"},  # a log-out
    "intend": {"rows/journal.py", "rows/ledger.py"},
    "asks": {"wire/client.py", "wire/exchange.py"},  # the contract has a list read by POST
}
#: Modules that could reach the network by themselves, and who may use them.
NETWORK = {"aiohttp": {"wire/transport.py"}, "socket": set(), "http": set(), "requests": set(), "httpx": set()}


def modules() -> Iterator[tuple[str, ast.Module]]:
    for file in sorted(SOURCE.rglob("*.py")):
        name = file.relative_to(SOURCE).as_posix()
        if not name.startswith("demo/"):
            yield name, ast.parse(file.read_text("utf-8"))


class OneDoor(unittest.TestCase):
    def test_what_leads_to_the_network_is_used_by_those_alone_that_may(self) -> None:
        used: dict[str, set[str]] = {name: set() for name in DOORS}
        for module, tree in modules():
            for node in ast.walk(tree):
                name = node.attr if isinstance(node, ast.Attribute) else getattr(node, "arg", getattr(node, "name", ""))
                if name in used and not isinstance(node, ast.alias):
                    used[name].add(module)
        self.assertEqual(used, DOORS)

    def test_no_other_module_reaches_the_network(self) -> None:
        for module, tree in modules():
            imported = {
                each.name if isinstance(node, ast.Import) else str(node.module)
                for node in ast.walk(tree)
                if isinstance(node, ast.Import | ast.ImportFrom)
                for each in node.names
            }
            for package, allowed in NETWORK.items():
                found = {name for name in imported if name.partition(".")[0] == package}
                self.assertTrue(not found or module in allowed, f"{module} imports {found}")

    def test_a_client_without_the_ledger_writes_nothing(self) -> None:
        import asyncio

        from checkpost.model.infer import infer
        from checkpost.wire.client import Client
        from checkpost.wire.door import Unsafe
        from checkpost.wire.exchange import Answer
        from checkpost.wire.session import Limits, Session
        from tests.simulation.api import BASE, Api
        from tests.simulation.tempers import BY_NAME
        from tests.support import contract_of

        sent: list[str] = []

        async def transport(method: str, *rest: object) -> Answer:
            sent.append(method)
            return Answer(200, (), b"{}")

        async def work() -> None:
            resource = infer(contract_of(Api(BY_NAME["sound"], 1).contract())).resources[0]
            async with Session({}, {}, Limits(), transport=transport) as session:
                client = Client(session, BASE, resource, "public")
                for purpose in ("create", "update", "replace", "delete"):
                    with self.assertRaises(Unsafe):
                        await client.send(purpose, key=(1,), record={"name": "x"})  # type: ignore[arg-type]
                await client.send("read", key=(1,))

        asyncio.run(work())
        self.assertEqual(sent, ["GET"])


if __name__ == "__main__":
    unittest.main()
