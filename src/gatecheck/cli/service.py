"""The bench as a service: install, status, uninstall."""

from __future__ import annotations

import argparse
import os
from pathlib import Path


def service(arguments: argparse.Namespace) -> int:
    from gatecheck.server.service_unit import SYSTEM_DATA, Service, install, status, uninstall

    is_system = os.geteuid() == 0 and not arguments.user
    data: Path = arguments.data or (SYSTEM_DATA if is_system else arguments.own_data)
    if arguments.command == "install":
        options = [part for name in arguments.name for part in ("--name", name)]
        own = Service(is_system, data, arguments.host, arguments.port, arguments.backups, tuple(options))
        print("\n".join(install(own)))
        return 0
    own = Service(is_system, data)
    if arguments.command == "uninstall":
        print("\n".join(uninstall(own)))
        return 0
    runs, lines = status(own)
    print("\n".join(lines))
    return 0 if runs else 3
