"""Settings: from the environment (`NAILER_...`) and one JSON file, the environment first.

The file is `nailer.json` in the working directory, or the one that `NAILER_CONFIG` names. `docs/settings.md` explains
every setting; a test holds the two together.
"""

from __future__ import annotations

import os
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network
from pathlib import Path
from typing import Annotated
from zoneinfo import ZoneInfo

from pydantic import AfterValidator, Field, ValidationError
from pydantic_settings import (
    BaseSettings,
    JsonConfigSettingsSource,
    PydanticBaseSettingsSource,
    SettingsConfigDict,
)

from nailer.core.numbers import number_in
from nailer.core.zones import zone_named
from nailer.errors import InvalidInput, SetupFailed


def _absolute(path: Path) -> Path:
    return path.expanduser().absolute()


def _known_zone(name: str) -> str:
    try:
        return zone_named(name).key
    except InvalidInput as error:
        raise ValueError(f"there is no time zone {name!r}") from error


def _machine_zone() -> str:
    """The zone this machine is set to (/etc/localtime, as systemd and Debian keep it), else UTC."""
    name = os.path.realpath("/etc/localtime").partition("/zoneinfo/")[2]
    try:
        return zone_named(name).key if name else "UTC"
    except InvalidInput:
        return "UTC"


def _networks(found: list[str]) -> list[str]:
    for one in found:
        ip_network(one)
    return found


def _sockets(found: list[str]) -> list[str]:
    for one in found:
        address, _, port = one.rpartition(":")
        ip_address(address)
        if number_in(port, least=1, most=65535) is None:
            raise ValueError(f"{one!r} is not an address with a port, like 192.0.2.53:53")
    return found


def _plain_label(roots: dict[str, Path]) -> dict[str, Path]:
    for label in roots:
        if not label or "/" in label or label in (".", ".."):
            raise ValueError(f"the label {label!r} of a root must be a plain name without a slash")
    return {label: _absolute(path) for label, path in roots.items()}


class Settings(BaseSettings):
    """Everything that can be set. Field names are the keys of the file; `NAILER_` and capitals make the variable."""

    model_config = SettingsConfigDict(env_prefix="NAILER_", extra="forbid")

    home: Annotated[Path, AfterValidator(_absolute)] = Path("var/nailer")
    host: str = "127.0.0.1"
    port: int = Field(8642, ge=0, le=65535)
    roots: Annotated[dict[str, Path], AfterValidator(_plain_label)] = Field(default_factory=dict)
    database_url: str | None = None
    routes: dict[str, str] = Field(default_factory=dict)
    time_zone: Annotated[str, AfterValidator(_known_zone)] = Field(default_factory=_machine_zone)
    jobs_at_once: int = Field(3, ge=1, le=32)
    files_at_once: int = Field(80, ge=1, le=256)
    keep_largest_bytes: int = Field(5_000_000_000, ge=0)
    view_port: int = Field(0, ge=0, le=65535)
    view_address: str = ""
    session_hours: int = Field(336, ge=1)
    session_idle_hours: int = Field(72, ge=1)
    log_days: int = Field(400, ge=1)
    secure_cookies: bool = False
    trusted_proxies: Annotated[list[str], AfterValidator(_networks)] = Field(default_factory=list)
    check_networks: Annotated[list[str], AfterValidator(_networks)] = Field(default_factory=list)
    name_servers: Annotated[list[str], AfterValidator(_sockets)] = Field(default_factory=list)
    hosts: list[str] = Field(default_factory=list)
    sign_in_note: str = ""
    mail_host: str = ""
    mail_port: int = Field(25, ge=1, le=65535)
    mail_from: str = "nailer@localhost"

    @classmethod
    def settings_customise_sources(
        cls,
        settings_cls: type[BaseSettings],
        init_settings: PydanticBaseSettingsSource,
        env_settings: PydanticBaseSettingsSource,
        dotenv_settings: PydanticBaseSettingsSource,
        file_secret_settings: PydanticBaseSettingsSource,
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        """Where settings come from: the environment first, then the file that NAILER_CONFIG names."""
        file = Path(os.environ.get("NAILER_CONFIG", "nailer.json"))
        return init_settings, env_settings, JsonConfigSettingsSource(settings_cls, json_file=file)

    @property
    def zone(self) -> ZoneInfo:
        """The time zone in which hours of the day are meant and shown."""
        return zone_named(self.time_zone)

    @property
    def fetched_from(self) -> list[IPv4Network | IPv6Network]:
        """Networks that live checks may fetch from, besides what is public."""
        return [ip_network(one) for one in self.check_networks]

    def route(self, host: str, port: int) -> tuple[str, int]:
        """The address to dial for a name and port: `routes` first, its `name:*` next, else the same."""
        target = self.routes.get(f"{host}:{port}")
        if target is None:
            return self.routes.get(f"{host}:*", host), port
        dial_host, _, dial_port = target.rpartition(":")
        return dial_host, int(dial_port)

    def certificate_route(self, host: str) -> tuple[str, int]:
        """Where a name's certificate is looked at: `name:tls` of the routes first, as `name:443` is fetched without TLS."""
        dial_host, _, dial_port = self.routes.get(f"{host}:tls", "").rpartition(":")
        return (dial_host, int(dial_port)) if dial_host else self.route(host, 443)


# Beside the settings: read by the launcher and by the settings themselves.
OTHER_VARIABLES = ("NAILER_CONFIG",)


def load_settings(**overrides: object) -> Settings:
    """The settings of this process. Raises SetupFailed with one line for each thing that cannot be used."""
    known = {f"NAILER_{name.upper()}" for name in Settings.model_fields} | set(OTHER_VARIABLES)
    strangers = sorted(name for name in os.environ if name.startswith("NAILER_") and name not in known)
    if strangers:
        raise SetupFailed(f"There is no setting {', '.join(strangers)}. docs/settings.md lists them all.")
    try:
        return Settings(**overrides)  # type: ignore[arg-type]
    except ValidationError as error:
        lines = [f"{'.'.join(str(part) for part in one['loc'])}: {one['msg']}" for one in error.errors()]
        raise SetupFailed("Some settings cannot be used. " + "; ".join(lines) + ".") from error
    except ValueError as error:
        raise SetupFailed(f"The settings file cannot be read: {error}.") from error
