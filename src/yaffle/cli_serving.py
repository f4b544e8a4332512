"""The command that lets programs ask: `yaffle serve`."""

import ipaddress
import sys
from contextlib import suppress
from pathlib import Path
from typing import Annotated, Any

import typer

from yaffle.errors import YaffleError
from yaffle.given_evidence import given_in_terminal
from yaffle.terminal import progress_bar

_LEAST_TOKEN = 16


def serve(
    evidence: Annotated[
        list[Path],
        typer.Argument(
            parser=given_in_terminal, metavar="CASE|HISTORY|CAPTURE...", help="What is served; captures together."
        ),
    ],
    bind: Annotated[
        str,
        typer.Option("--bind", metavar="ADDRESS", help="Address to answer on; anywhere else only with a token."),
    ] = "127.0.0.1",
    port: Annotated[int, typer.Option("--port", metavar="P", min=0, max=65_535, help="TCP port; 0: any.")] = 8621,
    token_file: Annotated[
        Path | None,
        typer.Option(
            "--token-file", metavar="FILE", help="What everybody who asks has to bear (Authorization: Bearer)."
        ),
    ] = None,
    tls_cert: Annotated[Path | None, typer.Option("--tls-cert", metavar="FILE", help="Certificate, for HTTPS.")] = None,
    tls_key: Annotated[Path | None, typer.Option("--tls-key", metavar="FILE", help="Its key.")] = None,
) -> None:
    """Answer programs over HTTP until stopped with Ctrl+C: tables, findings, series, events; described by /docs."""
    import uvicorn

    from yaffle.programs.web import application

    token = _token(token_file)
    if not token and not _is_loopback(bind):
        raise YaffleError(f"--bind {bind}: reachable from elsewhere, so that it needs --token-file FILE")
    if (tls_cert is None) != (tls_key is None):
        raise YaffleError("--tls-cert and --tls-key belong together")
    app = application(_cases(evidence), token)
    secure = {"ssl_certfile": str(tls_cert), "ssl_keyfile": str(tls_key)} if tls_cert is not None else {}
    config = uvicorn.Config(
        app, host=bind, port=port, log_level="warning", server_header=False, timeout_keep_alive=15,
        limit_concurrency=1000, h11_max_incomplete_event_size=16 << 10, access_log=False, **secure,  # type: ignore[arg-type]
    )  # fmt: skip
    try:
        with suppress(KeyboardInterrupt):  # That is how it is ended.
            _server(config, "https" if secure else "http").run()
    except (OSError, SystemExit) as error:
        raise YaffleError(f"{bind} port {port}: cannot be listened on ({error})") from None


def _server(config: Any, scheme: str) -> Any:
    """A server that says where it answers."""
    import uvicorn

    class Server(uvicorn.Server):
        async def startup(self, sockets: Any = None) -> None:
            await super().startup(sockets)
            for one in self.servers:
                for held in one.sockets:
                    host, port = held.getsockname()[:2]
                    shown = f"[{host}]" if ":" in host else host
                    sys.stdout.write(
                        f"answering on {scheme}://{shown}:{port}, described by {scheme}://{shown}:{port}/docs\n"
                    )
            sys.stdout.flush()

    return Server(config)


def _token(path: Path | None) -> str:
    if path is None:
        return ""
    try:
        text = path.read_text(encoding="ascii").strip()
        open_to_others = path.stat().st_mode & 0o077
    except (OSError, UnicodeDecodeError) as error:
        raise YaffleError(f"--token-file {path}: {error}") from error
    if open_to_others:
        raise YaffleError(f"--token-file {path}: others may read it: chmod 600 {path}")
    if len(text) < _LEAST_TOKEN or any(letter.isspace() for letter in text):
        raise YaffleError(f"--token-file {path}: expected one word of at least {_LEAST_TOKEN} characters")
    return text


def _is_loopback(bind: str) -> bool:
    try:
        return ipaddress.ip_address(bind).is_loopback
    except ValueError:
        return bind == "localhost"


def _cases(evidence: list[Path]) -> dict[str, Any]:
    """Cases and histories by their names; all captures are one case."""
    from yaffle.case.folder import SUFFIX
    from yaffle.history.layout import is_history
    from yaffle.programs import case as programs

    found: dict[str, Any] = {}
    captures = [path for path in evidence if not (path.suffix == SUFFIX or is_history(path))]
    bar, step = progress_bar()
    with bar:
        opened = [programs.open(path, progress=step) for path in evidence if path not in captures]
        opened += [programs.analyse(captures, progress=step)] if captures else []
    for one in opened:
        name = one.name
        number = 2
        while name in found:
            name, number = f"{one.name}-{number}", number + 1
        found[name] = one
    return found
