"""An S3-compatible store on this machine that can be told to fail now and then, or for good."""

import itertools
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import pytest
from moto.server import DomainDispatcherApplication, create_backend_app
from werkzeug.serving import make_server

from yaffle.kernel_cache import cache_folder

ACCOUNT = {
    "AWS_ACCESS_KEY_ID": "tests",
    "AWS_SECRET_ACCESS_KEY": "tests",
    "AWS_DEFAULT_REGION": "us-east-1",
    "AWS_MAX_ATTEMPTS": "1",
}


def fetch_to(folder, monkeypatch):
    """What is fetched from a store goes to a folder; compiled kernels stay where they are."""
    monkeypatch.setenv("YAFFLE_CACHE_DIR", str(cache_folder().parent))
    monkeypatch.setenv("XDG_CACHE_HOME", str(folder))


class ObjectStore:
    """What answers requests. fails_every: one in so many requests fails, 0: none; down: all fail."""

    def __init__(self) -> None:
        self.fails_every, self.down, self.failed = 0, False, 0
        self._application = DomainDispatcherApplication(create_backend_app)
        self._requests = itertools.count(1)
        self._server = make_server("127.0.0.1", 0, self._answer, threaded=True)
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)
        self._thread.start()
        self.environment = {**ACCOUNT, "AWS_ENDPOINT_URL": f"http://127.0.0.1:{self._server.server_port}"}

    def _answer(self, environment, start):
        number = next(self._requests)
        if self.down or (self.fails_every and number % self.fails_every == 0):
            self.failed += 1
            start("500 Internal Server Error", [("Content-Type", "text/plain")])
            return [b"out of order"]
        return self._application(environment, start)

    def close(self) -> None:
        self._server.shutdown()
        self._thread.join()


@contextmanager
def object_store(bucket: str) -> Iterator[ObjectStore]:
    """A store with an empty bucket; this process can reach it meanwhile."""
    made = ObjectStore()
    before = {name: os.environ.get(name) for name in made.environment}
    os.environ.update(made.environment)
    try:
        import boto3
        import s3fs

        s3fs.S3FileSystem.clear_instance_cache()  # It would speak to the server of a former test.
        boto3.client("s3").create_bucket(Bucket=bucket)
        boto3.resource("s3").Bucket(bucket).objects.all().delete()  # What a former server of this process held.
        yield made
    finally:
        for name, value in before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value
        made.close()


@pytest.fixture(scope="module")
def server():
    """A store with the bucket ferries."""
    with object_store("ferries") as made:
        yield made


@pytest.fixture
def store(server, tmp_path, monkeypatch):
    """The same, empty, and soon tried again; what is fetched from it, or goes into it, lies in folders of the test."""
    import boto3

    fetch_to(tmp_path / "cache", monkeypatch)
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setattr("yaffle.file_store._PAUSE_S", 0.01)
    yield server
    server.down, server.fails_every = False, 0
    boto3.resource("s3").Bucket("ferries").objects.all().delete()
