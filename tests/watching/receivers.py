"""Receivers of notices, as real as they are here."""

import contextlib
import http.server
import json
import os
import socket
import subprocess
import threading
import time


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


@contextlib.contextmanager
def session_bus(tmp_path):
    """A message bus of its own; the address it listens at."""
    address = f"unix:path={tmp_path}/bus"
    command = ["dbus-daemon", "--session", "--nofork", f"--address={address}"]
    daemon = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    end = time.monotonic() + 10
    while not (tmp_path / "bus").exists() and time.monotonic() < end:
        time.sleep(0.02)
    former = os.environ.get("DBUS_SESSION_BUS_ADDRESS")
    os.environ["DBUS_SESSION_BUS_ADDRESS"] = address
    try:
        yield
    finally:
        os.environ.pop("DBUS_SESSION_BUS_ADDRESS")
        if former:
            os.environ["DBUS_SESSION_BUS_ADDRESS"] = former
        daemon.terminate()
        daemon.wait()


@contextlib.contextmanager
def notification_daemon(tmp_path):
    """Who shows notices on a desktop (freedesktop.org), on a bus of its own: what it was given."""
    from jeepney import MessageType, new_method_return
    from jeepney.bus_messages import message_bus
    from jeepney.io.blocking import open_dbus_connection

    shown, ended = [], threading.Event()
    with session_bus(tmp_path), open_dbus_connection("SESSION") as own:
        own.send_and_get_reply(message_bus.RequestName("org.freedesktop.Notifications"))

        def serve():
            while not ended.is_set():
                try:
                    message = own.receive(timeout=0.2)
                except TimeoutError:
                    continue
                if message.header.message_type == MessageType.method_call:
                    shown.append(message.body)
                    with contextlib.suppress(OSError):  # Whoever asked was killed meanwhile.
                        own.send(new_method_return(message, "u", (len(shown),)))

        thread = threading.Thread(target=serve)
        thread.start()
        try:
            yield shown
        finally:
            ended.set()
            thread.join(5)
