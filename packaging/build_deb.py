"""A Debian package of the wheel: `python packaging/build_deb.py WHEEL FOLDER` writes FOLDER/gatecheck_VERSION_ARCH.deb.

It holds the wheel and the wheels of all that it needs, so that installing asks no registry: the package makes an
environment of its own in /opt/gatecheck, and a service of systemd that starts with the computer. Data stay in
/var/lib/gatecheck, whatever is removed."""

from __future__ import annotations

import platform
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from gatecheck.server.service_unit import SYSTEM_DATA, USER, Service, unit_text

_WHEELS, _HOME = "usr/share/gatecheck/wheels", "/opt/gatecheck"
_SCRIPTS = {
    "postinst": f"""#!/bin/sh
set -e
if [ "$1" = configure ]; then
  python3 -m venv --clear {_HOME}
  {_HOME}/bin/python -m pip install -q --disable-pip-version-check --no-index --find-links /{_WHEELS} gatecheck
  {_HOME}/bin/python -m compileall -q {_HOME}/lib || true
  ln -sf {_HOME}/bin/gatecheck /usr/bin/gatecheck
  getent passwd gatecheck >/dev/null || useradd --system --home-dir {SYSTEM_DATA} --shell /usr/sbin/nologin gatecheck
  install -d -m 0700 -o gatecheck -g gatecheck {SYSTEM_DATA}
  if [ -d /run/systemd/system ]; then
    systemctl daemon-reload
    systemctl enable gatecheck.service
    systemctl restart gatecheck.service
  fi
fi
""",
    "prerm": """#!/bin/sh
set -e
if [ "$1" = remove ] && [ -d /run/systemd/system ]; then
  systemctl disable --now gatecheck.service || true
fi
""",
    "postrm": f"""#!/bin/sh
set -e
if [ "$1" = remove ] || [ "$1" = purge ]; then
  rm -rf {_HOME}
  rm -f /usr/bin/gatecheck
  if [ -d {SYSTEM_DATA} ]; then echo "The shop's data stay in {SYSTEM_DATA}."; fi
  if [ -d /run/systemd/system ]; then systemctl daemon-reload; fi
fi
""",
}


def control(version: str, architecture: str, kib: int) -> str:
    """debian-policy, 5.3. The wheels are of this Python and of no other."""
    own, after = sys.version_info[:2], (sys.version_info[0], sys.version_info[1] + 1)
    return f"""Package: gatecheck
Version: {version}
Architecture: {architecture}
Maintainer: Gate Check <root@localhost>
Installed-Size: {kib}
Depends: python3 (>= {own[0]}.{own[1]}), python3 (<< {after[0]}.{after[1]}~), python3-venv, passwd
Recommends: systemd
Section: admin
Priority: optional
Description: bench for PC technicians
 Triage of machines that fail to boot: firmware settings, drives, storage
 diagnostics, repair and proof, on a page that every device of the shop opens.
"""


def main(wheel: Path, out: Path) -> Path:
    version = wheel.name.split("-")[1]
    architecture = {"x86_64": "amd64", "aarch64": "arm64"}.get(platform.machine(), platform.machine())
    with tempfile.TemporaryDirectory() as scratch:
        tree = Path(scratch) / "tree"
        wheels = tree / _WHEELS
        wheels.mkdir(parents=True)
        shutil.copy(wheel, wheels)
        download = [sys.executable, "-m", "pip", "download", "-q", "--disable-pip-version-check"]
        subprocess.run([*download, "--only-binary", ":all:", "-d", str(wheels), str(wheel)], check=True)
        unit = tree / "usr/lib/systemd/system/gatecheck.service"
        unit.parent.mkdir(parents=True)
        unit.write_text(unit_text(Service(True, SYSTEM_DATA), f"{_HOME}/bin/python"), encoding="utf-8")
        users = tree / "usr/lib/sysusers.d/gatecheck.conf"
        users.parent.mkdir(parents=True)
        users.write_text(USER, encoding="utf-8")
        size = sum(p.stat().st_size for p in tree.rglob("*") if p.is_file()) >> 10
        own = tree / "DEBIAN"
        own.mkdir()
        (own / "control").write_text(
            control(re.sub(r"[^0-9A-Za-z.+~-]", "~", version), architecture, size * 4), "utf-8"
        )
        for name, text in _SCRIPTS.items():
            (own / name).write_text(text, encoding="utf-8")
            (own / name).chmod(0o755)
        out.mkdir(parents=True, exist_ok=True)
        package = out / f"gatecheck_{version}_{architecture}.deb"
        build = ["dpkg-deb", "--root-owner-group", "-Zgzip", "-z1", "--build", str(tree), str(package)]
        subprocess.run(build, check=True, stdout=subprocess.DEVNULL)
    return package


if __name__ == "__main__":
    print(main(Path(sys.argv[1]), Path(sys.argv[2])))
