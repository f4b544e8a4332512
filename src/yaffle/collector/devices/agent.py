"""The SNMP agent of a device: single values and tables, a request at a time, so that no device has more to do.

Tables are read column by column (GETBULK, RFC 3416 section 4.2.3; GETNEXT in version 1); counters of known rows are
asked for by name, all of a row in one request, so that its figures are of one moment.
"""

import asyncio
import socket
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from yaffle.errors import YaffleError

Oid = tuple[int, ...]
V1, V2C, V3 = "1", "2c", "3"
_VALUES_AT_ONCE = 48  # of a request: an answer of some 1,000 octets, which fits any network in one piece
MOST_ROWS = 100_000
AUTH_PROTOCOLS = ("md5", "sha", "sha224", "sha256", "sha384", "sha512")
PRIVACY_PROTOCOLS = ("des", "aes128", "aes192", "aes256")


class AgentError(YaffleError):
    """A device that does not answer, or not as it should, with the reason."""


class SilentError(AgentError):
    """One that gave no answer at all."""


@dataclass(frozen=True)
class Credentials:
    """Who asks. Never shown."""

    version: str
    community: str = field(default="", repr=False)
    user: str = ""
    auth: str = field(default="", repr=False)
    auth_protocol: str = "sha256"
    privacy: str = field(default="", repr=False)
    privacy_protocol: str = "aes128"


@dataclass(frozen=True)
class Row:
    """One row of a table: its values by column (None: not there), and when they came."""

    values: tuple[Any, ...]
    time_ns: int


class Agent:
    """One device's agent. timeout_s: for each of two tries."""

    def __init__(self, address: str, port: int, credentials: Credentials, timeout_s: float = 2.0) -> None:
        self._address, self._port, self._timeout_s = address, port, timeout_s
        self._credentials = credentials
        self._session: Any = None
        self._at_once = _VALUES_AT_ONCE

    async def begin(self) -> None:
        """Finds the device anew, and its clock in version 3. Raises AgentError."""
        from gufo.snmp import SnmpVersion
        from gufo.snmp.aio import SnmpSession

        own, loop = self._credentials, asyncio.get_running_loop()
        try:
            found = await loop.getaddrinfo(self._address, self._port, type=socket.SOCK_DGRAM)
        except OSError as error:
            raise AgentError(f"{self._address}: this name is not known") from error
        version = {V1: SnmpVersion.v1, V2C: SnmpVersion.v2c, V3: SnmpVersion.v3}[own.version]
        self._session = SnmpSession(
            str(found[0][4][0]),
            self._port,
            community=own.community,
            user=_user(own) if own.version == V3 else None,
            version=version,
            timeout=self._timeout_s,
        )
        await self._tried(self._session.refresh)

    @property
    def is_first_version(self) -> bool:
        """Whether it knows neither many values at once nor counters of 64 bits."""
        return self._credentials.version == V1

    @property
    def needs_beginning(self) -> bool:
        """Whether its clock has to be asked for anew before it is asked for more (RFC 3414 section 3.2)."""
        return self._credentials.version == V3

    async def _tried(self, work: Callable[[], Awaitable[Any]]) -> Any:
        """The answer to a request that is made twice at most. Raises AgentError; SilentError without any answer."""
        from gufo.snmp import NoSuchInstance, SnmpAuthError, SnmpError

        for last in (False, True):
            try:
                return await work()
            except TimeoutError as error:
                if last:
                    raise SilentError(self._silent) from error
            except NoSuchInstance:
                return None
            except SnmpAuthError as error:
                words = "it does not take the user, or a key or protocol of authentication or privacy"
                raise AgentError(f"{self._address}: {words}") from error
            except SnmpError as error:
                raise AgentError(f"{self._address}: its answer makes no sense ({error})") from error
            except OSError as error:
                raise SilentError(f"{self._address}, UDP {self._port}: {error.strerror or error}") from error
        return None

    @property
    def _silent(self) -> str:
        """Why there may be no answer, and what to do."""
        why = "a filter, another community" if self._credentials.version != V3 else "a filter, or the user or a key"
        return (
            f"{self._address}, UDP {self._port}: no answer, asked twice within {2 * self._timeout_s:g} s"
            f" (it may be away; or {why})"
        )

    async def get(self, *oids: Oid) -> list[Any]:
        """Single values; None for what is not there. Raises AgentError."""
        names = [_text_of_oid(oid) for oid in oids]
        if self._session is None:
            await self.begin()
        try:
            told = await self._tried(lambda: self._session.get_many(names))
        except SilentError:
            raise
        except AgentError:
            if not self.is_first_version:
                raise
            told = None  # Where one is not there, it gives none.
        if not told and self.is_first_version:
            return [await self._tried(partial(self._session.get, name)) for name in names]
        return [(told or {}).get(name) for name in names]

    async def rows(self, columns: Sequence[Oid], indexes: Sequence[Oid]) -> dict[Oid, Row]:
        """The rows of known indexes, each of one moment; columns that a row does not have are None.

        Raises AgentError.
        """
        found = {}
        at = 0
        while at < len(indexes):
            some = indexes[at : at + max(1, self._at_once // len(columns))]
            values = await self.get(*((*column, *index) for index in some for column in columns))
            if all(value is None for value in values) and len(some) > 1:
                self._at_once //= 2  # Too big for it.
                continue
            now, width = time.time_ns(), len(columns)
            for k, index in enumerate(some):
                own = tuple(values[k * width : (k + 1) * width])
                if any(value is not None for value in own):
                    found[index] = Row(own, now)
            at += len(some)
        return found

    async def table(self, *columns: Oid, most: int = MOST_ROWS) -> dict[Oid, Row]:
        """A table by its index, in the agent's order; columns that a row does not have are None. Raises AgentError."""
        if self._session is None:
            await self.begin()
        found: dict[Oid, list[Any]] = {}
        times: dict[Oid, int] = {}
        for k, column in enumerate(columns):
            told = await self._tried(partial(self._column, column, most))
            for index, value, now in told or ():
                found.setdefault(index, [None] * len(columns))[k] = value
                times[index] = now
            if k == 0 and not found and len(columns) > 1 and not told:
                break  # A table that is not there is asked for once.
        return {index: Row(tuple(values), times[index]) for index, values in found.items()}

    async def _column(self, column: Oid, most: int) -> list[tuple[Oid, Any, int]]:
        """(index, value, when it came) of a column."""
        found: list[tuple[Oid, Any, int]] = []
        name, last = _text_of_oid(column), column
        async for key, value in self._walk(name):
            oid = tuple(int(part) for part in key.split("."))
            if oid <= last:
                raise AgentError(f"{self._address}: it answers in circles ({key})")
            last = oid
            found.append((oid[len(column) :], value, time.time_ns()))
            if len(found) > most:
                raise AgentError(f"{self._address}: a table of more than {most:,} rows is not read")
        return found

    def _walk(self, name: str) -> AsyncIterator[tuple[str, Any]]:
        walk: AsyncIterator[tuple[str, Any]] = (
            self._session.getnext(name) if self.is_first_version else self._session.getbulk(name, self._at_once)
        )
        return walk


def _user(own: Credentials) -> Any:
    from gufo import snmp

    auth = {
        "md5": snmp.Md5Key, "sha": snmp.Sha1Key, "sha224": snmp.Sha224Key, "sha256": snmp.Sha256Key,
        "sha384": snmp.Sha384Key, "sha512": snmp.Sha512Key,
    }  # fmt: skip
    privacy = {"des": snmp.DesKey, "aes128": snmp.Aes128Key, "aes192": snmp.Aes192Key, "aes256": snmp.Aes256Key}
    return snmp.User(
        own.user,
        auth_key=auth[own.auth_protocol](own.auth.encode()) if own.auth else None,
        priv_key=privacy[own.privacy_protocol](own.privacy.encode()) if own.privacy else None,
    )


def _text_of_oid(oid: Oid) -> str:
    return ".".join(map(str, oid))


def text_of(value: Any) -> str:
    """What a device says in words; empty without."""
    return value.decode("utf-8", "replace").strip("\0 \r\n") if isinstance(value, bytes) else ""


def hardware_text(value: Any) -> str:
    """A hardware address as it is written; empty without one."""
    return value.hex(":") if isinstance(value, bytes) and value.strip(b"\0") else ""
