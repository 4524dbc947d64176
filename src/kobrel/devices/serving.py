"""What the simulated devices share: a server of lines of text, for this machine and those that know its
token alone.
"""

import contextlib
import hmac
import os
import secrets
import socketserver
import sys
import threading
from collections.abc import Callable, Iterator

TOKEN_NAME = "KOBREL_TOKEN"
"""The variable of the environment in which a token is exported."""
ENDS_NAME = "KOBREL_ENDS_WITH_INPUT"
"""The variable that says that a device ends with its standard input."""
MOST_LINE, MOST_CLIENTS = 1024, 8
HELLO_S, IDLE_S = 5.0, 600.0
"""How long a client may take for its HELLO, and for each line after that; as long may a write take."""


def own_token() -> str:
    """The token that was exported, or a new one."""
    return os.environ.get(TOKEN_NAME) or secrets.token_hex(8)


class Client(socketserver.StreamRequestHandler):
    """One that has connected, and said the token."""

    server: "LineServer"
    timeout = HELLO_S

    def lines(self) -> Iterator[str]:
        """What it says, line by line, until it goes, says too much or nothing for long."""
        while True:
            raw = self.rfile.readline(MOST_LINE + 1)
            if len(raw) > MOST_LINE:
                self.say("ERROR the line is too long")
                return
            if not raw.endswith(b"\n"):
                return
            yield raw.decode("utf-8", "replace").strip()

    def say(self, line: str) -> None:
        """Send it a line."""
        self.wfile.write(f"{line}\n".encode())
        self.wfile.flush()

    def handle(self) -> None:
        """Let it in if it knows the token, and serve it until it goes."""
        with contextlib.suppress(OSError):  # it has gone, or stands still
            hello = next(self.lines(), "").split()
            given = hello[1] if len(hello) == 2 and hello[0] == "HELLO" else ""
            if not hmac.compare_digest(given.encode(), self.server.token.encode()):
                self.say("ERROR say HELLO and the token")
                return
            self.connection.settimeout(IDLE_S)
            self.server.serve(self)


class LineServer(socketserver.ThreadingTCPServer):
    """Listens on 127.0.0.1.

    Parameters
    ----------
    port : 0 chooses one
    token : what a client must know
    serve : called in a thread of its own with each that does

    Raises
    ------
    OSError
        The port cannot be used.
    """

    allow_reuse_address = True
    daemon_threads = True
    block_on_close = False
    request_queue_size = MOST_CLIENTS

    def __init__(self, port: int, token: str, serve: Callable[[Client], None]) -> None:
        self.token, self.serve = token, serve
        self._free = threading.Semaphore(MOST_CLIENTS)
        super().__init__(("127.0.0.1", port), Client)

    @property
    def port(self) -> int:
        """Where it listens."""
        return int(self.server_address[1])

    def verify_request(self, request: object, client_address: object) -> bool:
        """Whether there is room for one more."""
        return self._free.acquire(blocking=False)

    def process_request_thread(self, request: object, client_address: object) -> None:
        """Serve one, and make room again."""
        try:
            super().process_request_thread(request, client_address)  # type: ignore[arg-type]
        finally:
            self._free.release()

    def handle_error(self, request: object, client_address: object) -> None:
        """One that breaks its connection is no fault."""

    def serve_until_end(self) -> None:
        """Serve until it is stopped, or, where that is asked for in the environment, until nobody holds the
        other end of its standard input: what started it has ended, however abruptly.
        """
        if os.environ.get(ENDS_NAME):
            threading.Thread(target=self._end_when_left, name="kobrel-left", daemon=True).start()
        self.serve_forever()

    def _end_when_left(self) -> None:
        with contextlib.suppress(OSError, ValueError):
            while sys.stdin.buffer.read(1):
                pass
        self.shutdown()

    def announce(self) -> None:
        """Print where it listens, and the token unless it was exported."""
        print(f"Listening on 127.0.0.1:{self.port}", flush=True)
        if not os.environ.get(TOKEN_NAME):
            print(f"Token {self.token}", flush=True)
