"""The editor's desk: a page that is served to this machine while its text is written.

It is served to the loopback address only, below a random path, to requests that name that address
(so that no page on the web can read it), and made again whenever the text or the shelf changes.
"""

from __future__ import annotations

import contextvars
import secrets
import threading
import time
from collections.abc import Callable, Hashable, Iterator, Sequence
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from typing_extensions import override

from jovik.base.errors import JovikError
from jovik.report.document import Document, Paragraph, Section
from jovik.report.html import Script, render_html

LOOPBACK = "127.0.0.1"
WAIT_S = 20.0
"""How long a page's question whether it changed is kept open."""
LOOK_S = 0.25
"""How often the files are looked at meanwhile."""
RELOAD = """
(async () => {
  const mark = document.querySelector('meta[name="jovik-mark"]').content;
  for (;;) {
    try {
      const answer = await fetch(`changed?${mark}`, {cache: "no-store"});
      if (answer.status === 200) { location.reload(); return; }
    } catch { await new Promise(done => setTimeout(done, 1000)); }
  }
})();
"""
"""A script that reloads the page when it has changed, at the same scroll position."""


def file_marks(paths: Sequence[Path]) -> Hashable:
    """Return a value that differs once one of these files was written, made or removed."""
    marks = []
    for path in paths:
        try:
            found = path.stat()
            marks.append((found.st_mtime_ns, found.st_size, found.st_ino))
        except OSError:
            marks.append((0, 0, 0))
    return tuple(marks)


class Desk:
    """A page that is made when it is asked for, and its mark.

    Parameters
    ----------
    make : callable
        Returns the page with a script in it. What it raises on purpose is shown instead of a page.
    look : callable
        Returns a value that differs once the page would.
    """

    def __init__(self, make: Callable[[Script], str], look: Callable[[], Hashable]) -> None:
        self._make, self._look = make, look
        # The units that were chosen are of the caller's context, and requests come in threads.
        self._context = contextvars.copy_context()
        # One shelf is open, and two requests at once are of two windows.
        self._lock = threading.Lock()

    def page(self) -> str:
        """Return the page as it is now."""
        with self._lock:
            mark = self.mark()
            try:
                return self._context.run(self._make, Script(RELOAD, mark))
            except JovikError as error:
                return _told(error, Script(RELOAD, mark))

    def mark(self) -> str:
        """Return a short mark of the present state."""
        return f"{hash(self._look()) & (2**64 - 1):016x}"

    def changed_from(self, mark: str) -> bool:
        """Wait until the state is another one, for a while. Return whether it is."""
        until = time.monotonic() + WAIT_S
        while self.mark() == mark:
            if time.monotonic() >= until:
                return False
            time.sleep(LOOK_S)
        return True


def _told(error: JovikError, script: Script) -> str:
    """Return a page with the reason why the review cannot be made; it reloads as well."""
    lines = tuple(Paragraph(x) for x in (error.message, error.hint) if x)
    why = Section("why", "There is no page yet", lines)
    return render_html(Document("No page yet", "", (why,), "Made by Jovik"), script)


@contextmanager
def served(desk: Desk, port: int = 0) -> Iterator[str]:
    """Serve a desk while the context lasts, and yield its address.

    Parameters
    ----------
    port : int
        0 for any that is free.

    Raises
    ------
    OSError
        The port is taken.
    """
    root = f"/{secrets.token_urlsafe(12)}/"

    class Request(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            path, _, query = self.path.partition("?")
            if self.headers.get("Host") != f"{LOOPBACK}:{server.server_port}":
                self.send_error(403)
            elif path == root:
                self._send(200, desk.page().encode())
            elif path == f"{root}changed":
                self._send(200 if desk.changed_from(query) else 204, b"")
            else:
                self.send_error(404)

        def _send(self, status: int, content: bytes) -> None:
            self.send_response(status)
            self.send_header("Content-Type", "text/html; charset=utf-8")
            self.send_header("Cache-Control", "no-store")
            if status != 204:
                self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            self.wfile.write(content)

        @override
        def log_message(self, format: str, *args: object) -> None:
            """Log nothing: the terminal has the address."""

    server = ThreadingHTTPServer((LOOPBACK, port), Request)
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://{LOOPBACK}:{server.server_port}{root}"
    finally:
        server.shutdown()
        server.server_close()
