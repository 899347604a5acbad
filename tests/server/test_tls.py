"""The bench's own authority and certificate, and one port for both ways: what is encrypted, what plain HTTP still
gives, what is renewed, and what is refused in words."""

from __future__ import annotations

import ipaddress
import shutil
import socket
import ssl
import subprocess
import sys
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509

from gatecheck.adapters.probe_script import probe_files
from gatecheck.server.people.routes import own_address
from gatecheck.server.tls.authority import FOLDER, BenchTls
from gatecheck.store import StoreError
from serving import HTTP, SCRIPT, Served, free_port

HOSTS = ("localhost", "bench.local", "127.0.0.1", "192.0.2.7")


def made(folder: Path, hosts: tuple[str, ...] = HOSTS) -> BenchTls:
    return BenchTls(folder, "The bench", hosts)


def own_certificate(folder: Path) -> x509.Certificate:
    return x509.load_pem_x509_certificate((folder / FOLDER / "bench.pem").read_bytes())


def test_an_authority_is_made_once_and_its_keys_are_nobodys_else(tmp_path: Path) -> None:
    first = made(tmp_path)
    again = made(tmp_path)
    assert (first.fingerprint, first.words, first.pin) == (again.fingerprint, again.words, again.pin)
    assert len(first.words.split()) == 6
    for name in ("authority.key", "bench.key"):
        assert (tmp_path / FOLDER / name).stat().st_mode & 0o777 == 0o600
    own = own_certificate(tmp_path)
    names = own.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert names.get_values_for_type(x509.DNSName) == ["localhost", "bench.local"]
    assert names.get_values_for_type(x509.IPAddress) == [ipaddress.ip_address(h) for h in HOSTS[2:]]
    assert own.not_valid_after_utc - own.not_valid_before_utc <= timedelta(days=397)


@pytest.mark.parametrize(
    ("after", "hosts", "is_new"),
    [
        (1, HOSTS, False),
        (360, HOSTS, False),
        (370, HOSTS, True),
        (1, (*HOSTS, "192.0.2.9"), True),
        (1, HOSTS[:2], False),
    ],
)
def test_a_certificate_is_renewed_before_it_ends_and_for_new_addresses(
    tmp_path: Path, after: int, hosts: tuple[str, ...], is_new: bool
) -> None:
    own = made(tmp_path)
    before, pin, authority = own_certificate(tmp_path).serial_number, own.pin, own.fingerprint
    assert own.refresh(datetime.now(UTC) + timedelta(days=after), hosts) is is_new
    assert (own_certificate(tmp_path).serial_number != before) is is_new
    assert (own.pin, own.fingerprint) == (pin, authority), "who knows the bench is asked nothing again"


def test_files_that_do_not_belong_together_are_said(tmp_path: Path) -> None:
    made(tmp_path / "one")
    made(tmp_path / "other")
    raw = (tmp_path / "other" / FOLDER / "bench.key").read_bytes()
    (tmp_path / "one" / FOLDER / "bench.key").write_bytes(raw)
    with pytest.raises(StoreError, match="do not belong together"):
        made(tmp_path / "one")


@pytest.fixture(scope="module")
def public(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    if not own_address() or own_address().startswith("127."):
        pytest.skip("this machine has no address but its own")
    running = Served(tmp_path_factory.mktemp("public"), host="0.0.0.0")
    running.start()
    yield running
    running.stop()


def trusting(public: Served) -> ssl.SSLContext:
    """Knows nothing but the bench's authority, as the tablet that fetched it."""
    place = f"http://{own_address()}:{public.port}/authority.crt"
    return ssl.create_default_context(cadata=HTTP.get(place, timeout=10).text)


@pytest.mark.parametrize("host", ["address", "127.0.0.1", "localhost"])
def test_whoever_trusts_the_authority_is_encrypted_at_every_name(public: Served, host: str) -> None:
    host = own_address() if host == "address" else host
    with (
        socket.create_connection((host, public.port), 10) as raw,
        trusting(public).wrap_socket(raw, server_hostname=host) as own,
    ):
        assert own.version() in ("TLSv1.2", "TLSv1.3")
        own.sendall(f"GET /api/me HTTP/1.1\r\nHost: {host}:{public.port}\r\nConnection: close\r\n\r\n".encode())
        assert own.recv(65536).startswith(b"HTTP/1.1 200")


PLAIN = {
    "a page": ("GET", "/ticket/3?x=1", 200, "https://{host}/ticket/3?x=1"),
    "markup in a path": ("GET", "/%3Cscript%3E", 200, "https://{host}/%3Cscript%3E"),
    "the interface": ("GET", "/api/bench", 403, "expected https"),
    "a change": ("POST", "/api/pair", 403, "expected https"),
    "what a live system fetches": ("GET", "/s/AAAA", 200, ""),
    "what the probe says": ("POST", "/api/link/hello", 401, ""),
    "the authority": ("GET", "/authority.crt", 200, "BEGIN CERTIFICATE"),
}


@pytest.mark.parametrize("name", PLAIN)
def test_plain_http_from_elsewhere_only_leads_on(public: Served, name: str) -> None:
    method, path, status, told = PLAIN[name]
    host = f"{own_address()}:{public.port}"
    answer = HTTP.request(method, f"http://{host}{path}", timeout=10, **({"json": {}} if method == "POST" else {}))
    if name.startswith("what"):
        assert answer.status_code != 403, answer.text
    else:
        assert answer.status_code == status
    assert told.format(host=host) in answer.text
    assert "<script>" not in answer.text


def test_this_computer_itself_goes_on_as_before(public: Served) -> None:
    assert HTTP.get(f"{public.url}/api/bench", timeout=10).status_code == 200


def test_whoever_says_nothing_keeps_nobody_waiting(public: Served) -> None:
    silent = [socket.create_connection((own_address(), public.port), 10) for _ in range(40)]
    try:
        assert HTTP.get(f"{public.url}/api/bench", timeout=10).status_code == 200
        with socket.create_connection((own_address(), public.port), 10) as half:
            half.sendall(b"\x16\x03\x01")
            assert HTTP.get(f"{public.url}/api/bench", timeout=10).status_code == 200
    finally:
        for own in silent:
            own.close()


def test_another_authority_is_refused(public: Served, tmp_path: Path) -> None:
    other = ssl.create_default_context(cadata=made(tmp_path).authority_pem.decode())
    with (
        socket.create_connection((own_address(), public.port), 10) as raw,
        pytest.raises(ssl.SSLCertVerificationError),
    ):
        other.wrap_socket(raw, server_hostname=own_address())


@pytest.mark.parametrize(
    ("more", "said"),
    [
        (["--cert", "a.pem"], "--cert, --key: expected both"),
        (["--http", "--cert", "a.pem", "--key", "b.pem"], "--http: expected without --cert"),
        (["--cert", "a.pem", "--key", "b.pem"], "expected a certificate and its key in PEM"),
    ],
)
def test_what_cannot_be_is_said_in_one_sentence(tmp_path: Path, more: list[str], said: str) -> None:
    line = [SCRIPT, "serve", "--host", "0.0.0.0", "--port", str(free_port()), "--data", str(tmp_path), *more]
    done = subprocess.run(line, capture_output=True, text=True, check=False, timeout=60)
    assert done.returncode == 2, sys.stdout
    assert said in done.stderr
    assert "Traceback" not in done.stderr


def link_of(server: Served) -> dict[str, Any]:
    """A ticket's link, as a browser at the bench's address sees it."""
    number = server.take_in("screen=no-boot-device")
    server.call("POST", f"/api/tickets/{number}/link", json={"by": "KT"})
    host = f"{own_address()}:{server.port}"
    return dict(server.call("GET", f"/api/tickets/{number}/link", headers={"Host": host}))


@pytest.fixture(scope="module")
def stranger(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    """Another bench in the place of this one, as where somebody answers in its name."""
    running = Served(tmp_path_factory.mktemp("stranger"), host="0.0.0.0")
    running.start()
    yield running
    running.stop()


@pytest.mark.skipif(shutil.which("curl") is None, reason="curl is not here")
@pytest.mark.parametrize("program", ["curl", "wget"])
def test_a_start_line_takes_no_other_bench(public: Served, stranger: Served, program: str) -> None:
    if shutil.which(program) is None:
        pytest.skip(f"{program} is not here")
    (line,) = [own for own in link_of(public)["commands"] if own.startswith(program)]
    fetch = line.removesuffix(" | sh")
    script = subprocess.run(["sh", "-c", fetch], capture_output=True, text=True, check=False, timeout=60)
    assert script.returncode == 0, script.stderr
    assert f"ADDRESS='https://{own_address()}:{public.port}/p/" in script.stdout
    elsewhere = fetch.replace(f":{public.port}/", f":{stranger.port}/")
    refused = subprocess.run(["sh", "-c", elsewhere], capture_output=True, text=True, check=False, timeout=60)
    assert refused.returncode != 0
    assert refused.stdout == ""


@pytest.mark.skipif(shutil.which("busybox") is None, reason="busybox is not here")
def test_what_has_no_encryption_checks_the_sum_of_what_it_got(public: Served, stranger: Served, tmp_path: Path) -> None:
    (line,) = [own for own in link_of(public)["commands"] if own.startswith("busybox")]
    line = line.replace("/tmp/g", str(tmp_path / "g")).replace(f"&& sh {tmp_path / 'g'}", "&& echo started")
    right = subprocess.run(["sh", "-c", line], capture_output=True, text=True, check=False, timeout=60)
    assert (right.returncode, "started" in right.stdout) == (0, True), right.stderr
    wrong = line.replace(f":{public.port}/", f":{stranger.port}/")
    refused = subprocess.run(["sh", "-c", wrong], capture_output=True, text=True, check=False, timeout=60)
    assert (refused.returncode != 0, "started" in refused.stdout) == (True, False)


def test_a_probe_that_is_not_the_benchs_own_is_not_started(public: Served, tmp_path: Path) -> None:
    code = link_of(public)["code"]
    script = HTTP.get(f"http://{own_address()}:{public.port}/s/{code}", timeout=10).text
    fake = tmp_path / "curl"
    fake.write_text('#!/bin/sh\nwhile [ $# -gt 1 ]; do [ "$1" = -o ] && P=$2; shift; done\necho "import os" > "$P"\n')
    fake.chmod(0o755)
    env = {"PATH": f"{tmp_path}:/usr/bin:/bin", "TMPDIR": str(tmp_path)}
    done = subprocess.run(["sh", "-c", script], capture_output=True, text=True, check=False, timeout=60, env=env)
    assert done.returncode == 7, done.stderr
    assert "is not this bench's probe" in done.stderr


@pytest.mark.parametrize("who", ["own", "stranger"])
def test_the_probe_talks_to_its_own_bench_whatever_its_clock_says(
    public: Served, stranger: Served, who: str, tmp_path: Path
) -> None:
    link, authority = link_of(public), (public.data / FOLDER / "authority.pem").read_text()
    server = public if who == "own" else stranger
    package = tmp_path / "gatecheck_probe"
    package.mkdir()
    for name, text in probe_files(f"https://{own_address()}:{server.port}", link["secret"], authority).items():
        (package / name).write_text(text)
    said = (
        "from gatecheck_probe.link import Link; from gatecheck_probe.address import SERVER, SECRET; "
        "from gatecheck_probe.base import Away\n"
        "try: print(Link(SERVER, SECRET, print).call('POST', '/hello', {'protocol': 1, 'probe': '1', 'machine': {}, "
        "'session': 'ab' * 8, 'has': 0}, patient=False)['ticket'])\n"
        "except Away: print('away')\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", said], cwd=tmp_path, capture_output=True, text=True, check=False, timeout=60
    )
    assert ("away" in done.stdout) is (who == "stranger"), done.stdout + done.stderr
    assert ("certificate" in done.stdout.lower()) is (who == "stranger"), done.stdout
