"""A device of the configuration: how it is asked, and by whom. Secrets stand in the file, in others of mode 600, or in
the environment; they are never shown.
"""

import os
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, SecretStr, ValidationInfo, field_validator, model_validator

from yaffle.collector.configuration_parts import Every, Part, Port
from yaffle.collector.devices.agent import AUTH_PROTOCOLS, PRIVACY_PROTOCOLS, V1, V2C, V3, Credentials
from yaffle.errors import YaffleError

INTERFACES, HEALTH, ETHERNET, ADDRESSES, NEIGHBOURS = "interfaces", "health", "ethernet", "addresses", "neighbours"
TABLES = (INTERFACES, HEALTH, ETHERNET, ADDRESSES, NEIGHBOURS)
_OTHERS_MAY = 0o077
_LARGEST_SECRET = 4096
_SHORTEST_KEY = 8  # RFC 3414 section 11.2

Secret = Annotated[SecretStr, Field(strict=True)]


def secret_of(words: str, given: SecretStr | None, file: str, variable: str) -> str:
    """A secret from wherever it stands. Raises YaffleError where it cannot be had, or others could read it."""
    if given is not None:
        return given.get_secret_value()
    if variable:
        if variable not in os.environ:
            raise YaffleError(f"{words}: the environment has no {variable}")
        return os.environ[variable]
    if not file:
        return ""
    path = Path(file)
    try:
        if path.stat().st_mode & _OTHERS_MAY:
            raise YaffleError(f"{words}: {path} can be read by others; chmod 600 {path}")
        return path.read_text(encoding="utf-8")[:_LARGEST_SECRET].strip()
    except (OSError, UnicodeDecodeError) as error:
        raise YaffleError(f"{words}: {path} cannot be read ({getattr(error, 'strerror', None) or error})") from error


def beside(folder: Path, file: str) -> str:
    """A file as the configuration in a folder names it: relative from there, ~ is the user's home."""
    return str(folder / Path(file).expanduser()) if file else ""


class Ssh(Part):
    """Texts that a device gives at its command line: read-only commands by the name under which they are kept."""

    user: Annotated[str, Field(min_length=1)]
    texts: Annotated[dict[str, Annotated[str, Field(min_length=1)]], Field(min_length=1)]
    port: Port = 22
    key_file: str = ""
    password: Secret | None = None
    password_file: str = ""
    password_env: str = ""
    known_hosts: str = "~/.ssh/known_hosts"
    every: Every = 86_400 * 10**9

    def secret(self, address: str) -> str:
        """The password for a device; empty where a key is used. Raises YaffleError where it cannot be had."""
        return secret_of(f"{address}: password", self.password, self.password_file, self.password_env)

    def within(self, folder: Path) -> "Ssh":
        """With files as a configuration in a folder names them."""
        names = ("key_file", "password_file", "known_hosts")
        return self.model_copy(update={name: beside(folder, getattr(self, name)) for name in names})


class Device(Part):
    """One device, asked by SNMP; its texts by SSH where that is told."""

    address: Annotated[str, Field(min_length=1)]
    name: str = ""
    port: Port = 161
    version: Literal["1", "2c", "3"] = "2c"
    community: Secret | None = None
    community_file: str = ""
    community_env: str = ""
    user: str = ""
    auth: Secret | None = None
    auth_file: str = ""
    auth_env: str = ""
    auth_protocol: str = "sha256"
    privacy: Secret | None = None
    privacy_file: str = ""
    privacy_env: str = ""
    privacy_protocol: str = "aes128"
    every: Every = 60 * 10**9
    timeout: Every = 2 * 10**9
    tables: tuple[str, ...] = TABLES
    ssh: Ssh | None = None

    @field_validator("tables")
    @classmethod
    def _known(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        if unknown := [name for name in value if name not in TABLES]:
            raise ValueError(f"some of {', '.join(TABLES)} (not {unknown[0]})")
        return value

    @field_validator("auth_protocol", "privacy_protocol")
    @classmethod
    def _known_protocol(cls, value: str, told: ValidationInfo) -> str:
        known = AUTH_PROTOCOLS if told.field_name == "auth_protocol" else PRIVACY_PROTOCOLS
        if value not in known:
            raise ValueError(f"one of {', '.join(known)}")
        return value

    @model_validator(mode="after")
    def _who_asks(self) -> "Device":
        if self.version == V3:
            if not self.user:
                raise ValueError("user, with version 3")
            if self._has("privacy") and not self._has("auth"):
                raise ValueError("auth, where privacy is set")
        elif not self._has("community"):
            raise ValueError(f"community, community_file or community_env, with version {self.version}")
        for key in ("auth", "privacy"):
            given: SecretStr | None = getattr(self, key)
            if given is not None and len(given.get_secret_value()) < _SHORTEST_KEY:
                raise ValueError(f"{key} of at least {_SHORTEST_KEY} characters")
        return self

    def within(self, folder: Path) -> "Device":
        """With files as a configuration in a folder names them."""
        files = {name: beside(folder, getattr(self, name)) for name in ("community_file", "auth_file", "privacy_file")}
        return self.model_copy(update=files | {"ssh": self.ssh and self.ssh.within(folder)})

    def _has(self, key: str) -> bool:
        return getattr(self, key) is not None or bool(getattr(self, f"{key}_file") or getattr(self, f"{key}_env"))

    def _secret(self, key: str) -> str:
        told = (getattr(self, part) for part in (key, f"{key}_file", f"{key}_env"))
        return secret_of(f"{self.address}: {key}", *told)

    def credentials(self) -> Credentials:
        """Who asks. Raises YaffleError where a secret cannot be had."""
        if self.version in (V1, V2C):
            return Credentials(self.version, community=self._secret("community"))
        keys = {
            "auth": self._secret("auth"),
            "auth_protocol": self.auth_protocol,
            "privacy": self._secret("privacy"),
            "privacy_protocol": self.privacy_protocol,
        }
        return Credentials(self.version, user=self.user, **keys)
