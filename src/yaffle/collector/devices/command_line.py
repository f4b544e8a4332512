"""Texts that a device gives at its command line by SSH, by named commands; its host key must be known."""

import asyncio
from pathlib import Path

from yaffle.errors import YaffleError

_LONGEST = 8 << 20
_TIMEOUT_S = 60.0


async def texts_of(
    address: str, port: int, user: str, password: str, key_file: str, known_hosts: str, commands: dict[str, str]
) -> dict[str, str]:
    """What each command gives, by name. Raises YaffleError with the reason."""
    import asyncssh

    known = Path(known_hosts).expanduser()
    if not known.is_file():
        raise YaffleError(f"{address}: {known} is not there: put the device's host key there (ssh-keyscan {address})")
    where = f"{address}, TCP {port}"
    try:
        async with asyncio.timeout(_TIMEOUT_S):
            async with asyncssh.connect(
                address,
                port,
                username=user,
                password=password or None,
                client_keys=[str(Path(key_file).expanduser())] if key_file else None,
                known_hosts=str(known),
                agent_path=None,
                config=None,
            ) as connection:
                return {name: await _run(connection, name, command) for name, command in commands.items()}
    except TimeoutError as error:
        raise YaffleError(f"{where}: not done within {_TIMEOUT_S:.0f} s") from error
    except asyncssh.HostKeyNotVerifiable as error:
        raise YaffleError(f"{where}: its host key is not the one in {known}") from error
    except asyncssh.PermissionDenied as error:
        raise YaffleError(f"{where}: it does not let {user} in") from error
    except (OSError, asyncssh.Error) as error:
        raise YaffleError(f"{where}: {getattr(error, 'strerror', None) or error}") from error


async def _run(connection: object, name: str, command: str) -> str:
    process = await connection.create_process(command, encoding=None)  # type: ignore[attr-defined]
    parts, size = [], 0
    while part := await process.stdout.read(1 << 16):
        parts.append(part)
        size += len(part)
        if size > _LONGEST:
            process.close()
            raise YaffleError(f"{name}: more than {_LONGEST >> 20} MiB")
    done = await process.wait()
    if done.exit_status:
        raise YaffleError(f"{name}: {command!r} ended with status {done.exit_status}")
    return b"".join(parts).decode("utf-8", "replace").replace("\r\n", "\n")
