"""Receivers of notices, as real as they are here."""

import contextlib
import http.server
import json
import socket
import threading


class Hooks:
    """A web server that takes what is posted; `up` says whether it does at the moment."""

    def __init__(self):
        self.taken, self.headers, self.up = [], [], True
        own = self

        class Handler(http.server.BaseHTTPRequestHandler):
            def do_POST(self):
                body = self.rfile.read(int(self.headers["Content-Length"]))
                if own.up:
                    own.taken.append(body)
                    own.headers.append(dict(self.headers))
                self.send_response(204 if own.up else 503)
                self.end_headers()

            def log_message(self, *_):
                pass

        self._server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self._server.server_address[1]}/hook"

    @property
    def told(self):
        return [json.loads(body) for body in self.taken]

    def close(self):
        self._server.shutdown()
        self._server.server_close()


@contextlib.contextmanager
def hooks():
    own = Hooks()
    try:
        yield own
    finally:
        own.close()


@contextlib.contextmanager
def syslog_server():
    """(port, datagrams)."""
    found, ended = [], threading.Event()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
        own.bind(("127.0.0.1", 0))
        own.settimeout(0.1)

        def take():
            while not ended.is_set():
                with contextlib.suppress(TimeoutError):
                    found.append(own.recv(65_536))

        thread = threading.Thread(target=take)
        thread.start()
        try:
            yield own.getsockname()[1], found
        finally:
            ended.set()
            thread.join()
