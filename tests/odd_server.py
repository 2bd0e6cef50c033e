"""A TCP server that answers every request with bytes that a test chooses, right or wrong."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable

#: Given the request's first line, the bytes to send; None sends nothing and closes.
Script = Callable[[str], bytes | None]


def answer(
    body: bytes,
    status: str = "200 OK",
    media_type: str = "application/json",
    extra: str = "",
    length: int | None = None,
) -> bytes:
    size = len(body) if length is None else length
    head = (
        f"HTTP/1.1 {status}\r\nContent-Type: {media_type}\r\nContent-Length: {size}\r\nConnection: close\r\n{extra}\r\n"
    )
    return head.encode() + body


class OddServer:
    """Serves until the block ends. ``drip`` sends the bytes one by one with a pause, without end."""

    def __init__(self, script: Script, drip: float = 0.0) -> None:
        self.script, self.drip = script, drip
        self.requests: list[str] = []
        self.heads: list[str] = []
        self._socket = socket.create_server(("127.0.0.1", 0))
        self._stopped = False
        threading.Thread(target=self._accept, daemon=True).start()

    @property
    def base_url(self) -> str:
        return f"http://127.0.0.1:{self._socket.getsockname()[1]}"

    def __enter__(self) -> OddServer:
        return self

    def __exit__(self, *_: object) -> None:
        self._stopped = True
        self._socket.close()

    def _accept(self) -> None:
        while not self._stopped:
            try:
                connection, _ = self._socket.accept()
            except OSError:
                return
            threading.Thread(target=self._serve, args=(connection,), daemon=True).start()

    def _serve(self, connection: socket.socket) -> None:
        with connection:
            try:
                received = b""
                while b"\r\n\r\n" not in received:
                    part = connection.recv(65536)
                    if not part:
                        return
                    received += part
                line = received.split(b"\r\n")[0].decode()
                self.requests.append(line)
                self.heads.append(received.decode("latin-1"))
                sent = self.script(line)
                if sent is None:
                    return
                if not self.drip:
                    connection.sendall(sent)
                    return
                connection.sendall(sent)
                while not self._stopped:
                    time.sleep(self.drip)
                    connection.sendall(b" ")
            except OSError:
                return
