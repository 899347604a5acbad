"""The bench as a service of systemd: of one user, or of the computer where root installs it. One unit, hardened; all
data stays in one folder that no uninstalling removes.

Sources: systemd.service(5), systemd.exec(5)."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from gatecheck.adapters.durable_file import durable
from gatecheck.core.errors import InputError

UNIT = "gatecheck.service"
SYSTEM_UNITS, SYSTEM_DATA = Path("/etc/systemd/system"), Path("/var/lib/gatecheck")
SYSTEM_USERS = Path("/etc/sysusers.d/gatecheck.conf")
USER = 'u gatecheck - "Gate Check bench" /var/lib/gatecheck\n'
_HOMES = ("/root/", "/home/")
_BY_SYSCALLS = (
    "NoNewPrivileges=yes",
    "LockPersonality=yes",
    "RestrictRealtime=yes",
    "RestrictSUIDSGID=yes",
    "RestrictNamespaces=yes",
    "SystemCallArchitectures=native",
    "SystemCallFilter=@system-service",
    "SystemCallErrorNumber=EPERM",
    "RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK",
    "UMask=0077",
)
"""what a user's own manager can do too"""
_BY_MOUNTS = (
    "User=gatecheck",
    "StateDirectory=gatecheck",
    "StateDirectoryMode=0700",
    "ProtectSystem=strict",
    "ProtectHome=yes",
    "PrivateTmp=yes",
    "PrivateDevices=yes",
    "ProtectClock=yes",
    "ProtectHostname=yes",
    "ProtectKernelLogs=yes",
    "ProtectKernelModules=yes",
    "ProtectKernelTunables=yes",
    "ProtectControlGroups=yes",
    "ProtectProc=invisible",
    "CapabilityBoundingSet=",
)
"""what only the computer's manager can do"""


@dataclass(frozen=True, slots=True)
class Service:
    """is_system: of the computer, not of one user; options: further ones of `gatecheck serve`."""

    is_system: bool
    data: Path
    host: str = "0.0.0.0"
    port: int = 8765
    backups: Path | None = None
    options: tuple[str, ...] = ()

    @property
    def unit(self) -> Path:
        if self.is_system:
            return SYSTEM_UNITS / UNIT
        own = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
        return Path(own) / "systemd" / "user" / UNIT


def unit_text(own: Service, python: str = sys.executable) -> str:
    """The unit, run by that Python. Raises InputError for a path that a unit cannot hold."""
    command = [python, "-m", "gatecheck.cli.main", "serve", "--host", own.host, "--port", str(own.port)]
    command += ["--data", str(own.data), *own.options]
    if own.backups is not None:
        command += ["--backups", str(own.backups)]
    lines = [
        "[Unit]",
        "Description=Gate Check bench",
        "Documentation=man:systemd.service(5)",
        "After=network-online.target",
        "Wants=network-online.target",
        "",
        "[Service]",
        "Type=exec",
        f"ExecStart={' '.join(_quoted(part) for part in command)}",
        "Environment=PYTHONUNBUFFERED=1",
        "Restart=on-failure",
        "RestartSec=2",
        "TimeoutStopSec=30",
        *_BY_SYSCALLS,
    ]
    if own.is_system:
        lines += _BY_MOUNTS
        if own.backups is not None:
            lines.append(f"ReadWritePaths={_quoted(str(own.backups))}")
    return "\n".join([*lines, "", "[Install]", f"WantedBy={'multi-user' if own.is_system else 'default'}.target", ""])


def _quoted(part: str) -> str:
    if any(ord(c) < 32 for c in part):
        raise InputError(f"{part!r}: expected a path without control characters")
    own = part.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{own}"' if own != part or " " in own or "'" in own else own


def install(own: Service) -> list[str]:
    """Write the unit, and start it now and with every start of the computer; what was done, a line each. Raises
    InputError where it cannot be written or started."""
    text = unit_text(own)
    if own.is_system and sys.executable.startswith(_HOMES):
        raise InputError(
            f"{sys.executable}: expected a program that lies outside of home folders (pipx install --global), for the "
            "service runs as a user of its own; or --user"
        )
    if not own.is_system:
        try:
            own.data.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise InputError(f"--data {own.data}: expected a folder that can be made, got {error.strerror}") from error
    before = own.unit.read_bytes() if own.unit.exists() else None
    try:
        if own.is_system:
            _user()
        own.unit.parent.mkdir(parents=True, exist_ok=True)
        with durable(own.unit) as file:
            file.write(text.encode())
    except OSError as error:
        raise InputError(f"{own.unit}: expected a unit that can be written, got {error.strerror}") from error
    done = [f"unit: {own.unit}", f"data: {own.data}"]
    if own.is_system and own.backups is not None:
        done.append(f"backups: the user gatecheck has to be able to write {own.backups}")
    try:
        _ask(own, "daemon-reload")
        _ask(own, "enable", UNIT)
        _ask(own, "restart", UNIT)
    except InputError:
        _put_back(own, before)
        raise
    done.append(f"started; it listens on port {own.port} and starts with the computer")
    if not own.is_system:
        done.append("to keep it running while nobody is logged in: loginctl enable-linger")
    return done


def _put_back(own: Service, before: bytes | None) -> None:
    """The unit as it was: one that cannot be started stays nowhere."""
    with contextlib.suppress(OSError, InputError):
        if before is None:
            own.unit.unlink()
        else:
            with durable(own.unit) as file:
                file.write(before)
        _ask(own, "daemon-reload")


def _user() -> None:
    """The user that the computer's service runs as. Raises InputError, OSError."""
    SYSTEM_USERS.parent.mkdir(parents=True, exist_ok=True)
    with durable(SYSTEM_USERS) as file:
        file.write(USER.encode())
    tool = shutil.which("systemd-sysusers")
    said = subprocess.run([tool, SYSTEM_USERS], capture_output=True, text=True, check=False) if tool else None
    if said is None or said.returncode:
        why = said.stderr.strip() if said else "no systemd-sysusers"
        raise InputError(f"user gatecheck: expected that it can be made, got {why}")


def uninstall(own: Service) -> list[str]:
    """Stop it and take the unit away; the data stays. Raises InputError where it is not installed."""
    if not own.unit.exists():
        raise InputError(f"{own.unit}: expected an installed unit, got none")
    _ask(own, "disable", "--now", UNIT)
    try:
        own.unit.unlink()
    except OSError as error:
        raise InputError(f"{own.unit}: expected a unit that can be removed, got {error.strerror}") from error
    _ask(own, "daemon-reload")
    return [f"stopped, and removed: {own.unit}", f"the data stays: {own.data}"]


def status(own: Service) -> tuple[bool, list[str]]:
    """(does it run, a line for each thing known)."""
    if not own.unit.exists():
        return False, [f"not installed: {own.unit} is not there"]
    asked = ("ActiveState", "SubState", "ActiveEnterTimestamp", "NRestarts", "MainPID")
    told = _ask(own, "show", UNIT, *(f"--property={name}" for name in asked))
    found = dict(line.split("=", 1) for line in told.splitlines() if "=" in line)
    runs = found.get("ActiveState") == "active"
    lines = [f"unit: {own.unit}", f"state: {found.get('ActiveState', 'unknown')} ({found.get('SubState', 'unknown')})"]
    if runs:
        lines.append(f"since: {found.get('ActiveEnterTimestamp', '')}, process {found.get('MainPID', '')}")
    if found.get("NRestarts", "0") not in ("", "0"):
        lines.append(f"restarted after a failure: {found['NRestarts']} times")
    log = "journalctl -u gatecheck" if own.is_system else "journalctl --user -u gatecheck"
    return runs, [*lines, f"its log: {log}"]


def _ask(own: Service, *words: str) -> str:
    """What systemctl answers. Raises InputError with what it says where it refuses or is not there."""
    tool = shutil.which("systemctl")
    if tool is None:
        raise InputError(f"systemctl: expected systemd on this computer, got none; the unit would be {own.unit}")
    command: Sequence[str] = [tool, *([] if own.is_system else ["--user"]), "--no-pager", *words]
    said = subprocess.run(command, capture_output=True, text=True, check=False)
    if said.returncode:
        why = (said.stderr or said.stdout).strip().splitlines()
        raise InputError(f"systemctl {' '.join(words)}: {why[-1] if why else f'status {said.returncode}'}")
    return said.stdout
