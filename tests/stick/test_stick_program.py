"""What runs on the stick, and how it is built: screens, the bench found, names, the guard of the right drive. It is
started for real in the lab."""

from __future__ import annotations

import importlib
import importlib.util
import pkgutil
import socket
import struct
import sys
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest

import gatecheck.probe
import gatecheck.stick
from gatecheck.cli.main import main
from gatecheck.core.errors import InputError
from gatecheck.core.guid import guid_bytes
from gatecheck.server.announce import service_name
from gatecheck.stick import build
from gatecheck.stick.device import facts_of
from gatecheck.stick.image import DISK, LEAST, write_image
from gatecheck.stick.modules import _fits

LIVE = Path(gatecheck.stick.__file__).parent / "live"


@pytest.fixture(scope="module")
def program() -> ModuleType:
    """The program as a module; the probe stands beside it on the stick."""
    for module in pkgutil.iter_modules(gatecheck.probe.__path__, "gatecheck.probe."):
        own = importlib.import_module(module.name)
        sys.modules.setdefault(module.name.replace("gatecheck.probe", "gatecheck_probe"), own)
    sys.modules.setdefault("gatecheck_probe", gatecheck.probe)
    spec = importlib.util.spec_from_file_location("gatecheck_stick", LIVE / "gatecheck_stick.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def label(text: str) -> bytes:
    return b"".join(bytes([len(p)]) + p.encode() for p in text.split("."))


def answer(
    *, port: int = 8765, ip: str = "10.1.2.3", flags: int = 0x8400, counts: tuple[int, int] = (1, 2), name: str = "Loft"
) -> bytes:
    """A pointer, the service with its name compressed, and its address."""
    head = struct.pack(">HHHHHH", 0, flags, 0, counts[0], 0, counts[1])
    service = label("_gatecheck._tcp.local") + b"\0"
    own = bytes([len(name)]) + name.encode() + b"\xc0\x0c"
    pointer = service + struct.pack(">HHIH", 12, 1, 120, len(own)) + own
    at = 12 + len(service) + 10
    target = label("bench.local") + b"\0"
    srv = (
        struct.pack(">H", 0xC000 | at)
        + struct.pack(">HHIH", 33, 1, 120, 6 + len(target))
        + struct.pack(">HHH", 0, 0, port)
        + target
    )
    host = target + struct.pack(">HHIH", 1, 1, 120, 4) + socket.inet_aton(ip)
    return head + pointer + srv + host


@pytest.mark.parametrize(
    ("raw", "found"),
    [
        (answer(), [("Loft", "10.1.2.3", 8765)]),
        (answer(flags=0), []),
        (answer(port=0), []),
        (answer()[:40], []),
        (b"", []),
        (b"\xff" * 60, []),
        (answer(counts=(1, 1)), [("Loft", "9.9.9.9", 8765)]),
        (answer(ip="9.9.9.9"), [("Loft", "9.9.9.9", 8765)]),
        (answer(counts=(60_000, 60_000)), []),
        (struct.pack(">HHHHHH", 0, 0x8400, 0, 1, 0, 0) + b"\xc0\x0c", []),
    ],
)
def test_benches_are_read_from_an_answer_and_nothing_else_is(program: ModuleType, raw: bytes, found: list[Any]) -> None:
    assert program.benches_in(raw, "9.9.9.9") == found


def test_the_question_is_one(program: ModuleType) -> None:
    raw = program.question("_gatecheck._tcp.local")
    assert program.dns_name(raw, 12) == ("_gatecheck._tcp.local", len(raw) - 4)
    assert raw[-4:] == b"\0\x0c\x80\x01"  # a pointer, answered to who asks


@pytest.mark.parametrize(
    ("typed", "address"),
    [
        ("10.0.0.7", "http://10.0.0.7:8765"),
        (" 10.0.0.7:90/ ", "http://10.0.0.7:90"),
        ("https://bench.lan", "https://bench.lan:8765"),
        ("http://bench:1", "http://bench:1"),
    ],
)
def test_an_address_is_taken_as_people_type_it(program: ModuleType, typed: str, address: str) -> None:
    assert program.address_typed(typed) == address


@pytest.mark.parametrize(
    ("layout", "pressed", "wanted"),
    [
        (0, "abz2y-k9m3q", "abz2y-k9m3q"),
        (1, "aby2z/k9m3q", "abz2y-k9m3q"),
        (1, "192.168.0.7>8765", "192.168.0.7:8765"),
        (2, "qbw@yk(;#a", "abz2yk9m3q"),
        (2, "qbw2yk9;3a", "abz2yk9m3q"),
        (2, "!(@<!^*<)<&.*&^%", "192.168.0.7:8765"),
    ],
)
def test_what_a_key_means_follows_the_keyboard(program: ModuleType, layout: int, pressed: str, wanted: str) -> None:
    assert program.meant(pressed, layout) == wanted


@pytest.mark.parametrize(
    ("typed", "code"),
    [
        ("abz2y-k9m3q", "abz2y-k9m3q"),
        ("abz2yk9m3q", "abz2y-k9m3q"),
        (" ABZ2Y K9M3Q ", "abz2y-k9m3q"),
        ("abz2y6k9m3q", "abz2y-k9m3q"),
        ("abz2y7k9m3q", "abz2y7k9m3q"),
        ("abz2", "abz2"),
    ],
)
def test_a_code_is_taken_with_its_line_or_without(program: ModuleType, typed: str, code: str) -> None:
    assert program.code_typed(typed) == code


def test_the_keyboard_is_chosen_while_typing_and_what_was_typed_follows(program: ModuleType) -> None:
    stick = program.Stick.__new__(program.Stick)
    stick.shown, stick.typed, stick.layout, stick.secret, stick.work, stick.sent = program.Shown(), "", 0, "", None, []
    stick.code = stick.sent.append
    stick.shown.typing = ("Code", "")
    for key in "abyzk9m3q2":
        stick.press(key)
    assert stick.shown.typing == ("Code", "abyzk9m3q2")
    shown = stick.keys()
    assert ("Tab", "keyboard: English") in shown
    stick.press("\t")
    assert stick.shown.typing == ("Code", "abzyk9m3q2")
    shown = stick.keys()
    assert ("Tab", "keyboard: German") in shown
    stick.press("\b")
    stick.press("7")
    stick.press("\r")
    assert stick.sent == ["abzyk-9m3q7"]


def test_a_reading_gets_a_name_of_its_own(program: ModuleType) -> None:
    facts = {"product_name": "Lathe-14 / “fine”", "product_serial": "LA 1000"}
    assert program.free_name(facts, set()) == "lathe-14-fine-la-1000-1.gcap"
    assert program.free_name(facts, {"lathe-14-fine-la-1000-1.gcap"}) == "lathe-14-fine-la-1000-2.gcap"
    assert program.free_name({}, set()) == "machine-1.gcap"


def filled(program: ModuleType, drives: int) -> Any:
    shown = program.Shown()
    shown.machine, shown.mode = "Ferrow Lathe-14 " + "x" * 90, "UEFI firmware 1.14"
    shown.drives = [
        (f"sd{n}", f"sd{n}      QUARRY SPINDLE 1000  1 TB " + "y" * 80, "shut: nothing can be written to it")
        for n in range(drives)
    ]
    shown.verdicts = {"sd0": "It is failing: " + "many words " * 30}
    shown.bench, shown.doing, shown.log, shown.pull = (
        "Bench found " * 9,
        "Reading: sda identify.bin",
        ["one " * 60, "two " * 60],
        "You may remove the stick.",
    )
    shown.keys = [
        ("O", "read onto the stick"),
        ("C", "type a ticket's code"),
        ("A", "type the bench's address"),
        ("P", "power off"),
    ]
    return shown


@pytest.mark.parametrize("size", [(64, 24), (80, 25), (40, 15), (128, 48)])
@pytest.mark.parametrize("drives", [0, 2, 14])
def test_a_screen_fits_and_keeps_its_keys(program: ModuleType, size: tuple[int, int], drives: int) -> None:
    columns, rows = size
    lines = program.screen(filled(program, drives), columns, rows)
    assert len(lines) == rows
    assert max(len(line) for _, line in lines) <= columns
    assert "[P] power off" in lines[-1][1]
    assert any("You may remove the stick" in line for _, line in lines)
    if drives == 0:
        assert any("No drive is seen" in line for _, line in lines)


def test_what_a_drive_or_a_bench_calls_itself_is_no_order_to_the_console(program: ModuleType) -> None:
    shown = filled(program, 1)
    shown.machine, shown.bench = "Lathe\x1b[2J", "Loft\x9b2J\x07"
    shown.drives = [("sd0", "sd0 QUARRY\x1b]0;x\x07", "shut")]
    text = "\n".join(line for _, line in program.screen(shown, 80, 25))
    assert not [c for c in text.replace("\n", "") if not c.isprintable()]
    assert "Lathe?[2J" in text


@pytest.fixture
def stick(program: ModuleType) -> Any:
    """The program at work, with nothing of a machine beneath it."""
    own = program.Stick.__new__(program.Stick)
    own.shown, own.benches, own.bench, own.secret, own.token, own.name = program.Shown(), [], "", "", "", ""
    own.facts, own.asked_at, own.typed, own.layout, own.work, own.begun = (
        {"product_name": "Lathe-14"},
        -100.0,
        "",
        0,
        None,
        [],
    )
    own.nonce, own.key, own.is_own, own.handed, own.pinned = "", "", False, "", ""
    own.begin = own.begun.append
    return own


@pytest.fixture
def answering() -> Iterator[Callable[[int, bytes, str], str]]:
    """Something that answers every question the same; its address."""
    servers: list[ThreadingHTTPServer] = []

    def begin(status: int, body: bytes, kind: str = "text/html") -> str:
        class Same(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                self.rfile.read(int(self.headers.get("Content-Length") or 0))
                self.send_response(status)
                self.send_header("Content-Type", kind)
                self.send_header("Location", "http://127.0.0.1:9/pay")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            do_POST = do_GET

            def log_message(self, *_: object) -> None:
                return

        servers.append(ThreadingHTTPServer(("127.0.0.1", 0), Same))
        threading.Thread(target=servers[-1].serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{servers[-1].server_port}"

    yield begin
    for own in servers:
        own.shutdown()
        own.server_close()


@pytest.mark.parametrize(
    ("status", "body", "kind", "words"),
    [
        (200, b"<html>Welcome to the harbour's network. Pay here.</html>", "text/html", "is no bench"),
        (302, b"", "text/html", ""),
        (200, b"[1, 2]", "application/json", "is no bench"),
        (200, b"\xff" * 2000, "application/octet-stream", "is no bench"),
        (404, b'{"detail": "no such thing"}', "application/json", "no such thing"),
        (511, b"<html>log in</html>", "text/html", ""),
    ],
)
def test_a_network_with_a_page_of_its_own_is_one_sentence_and_is_asked_again(
    stick: Any, answering: Any, status: int, body: bytes, kind: str, words: str
) -> None:
    stick.bench = answering(status, body, kind)
    stick.knock()
    assert words in stick.shown.bench
    assert stick.shown.bench.startswith(("What answers at", "The bench at"))
    assert (stick.token, stick.secret, stick.begun) == ("", "", [])
    stick.code("abz2y-k9m3q")
    assert stick.shown.bench.startswith(("What answers at", "The bench does not take the code"))
    assert stick.begun == []


def test_of_two_benches_on_one_network_one_is_chosen_by_its_number_and_a_code_goes_to_that_one(
    stick: Any, program: ModuleType, answering: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    mine = answering(200, b'{"secret": "7-abc"}', "application/json")
    other = answering(410, b'{"detail": "that code was used for another machine"}', "application/json")
    monkeypatch.setattr(program, "find_benches", lambda seconds: [("Loft", mine), ("Quay", other)])
    stick.find()
    assert stick.shown.bench == "Benches: [1] Loft, [2] Quay. Press the number of yours."
    stick.code("abz2y-k9m3q")
    assert "no bench yet" in stick.shown.bench
    for key in ("9", "0", "2"):
        stick.press(key)
    assert stick.bench == other
    stick.code("abz2y-k9m3q")
    assert stick.shown.bench == "The bench does not take the code abz2y-k9m3q: that code was used for another machine"
    stick.bench, stick.asked_at = "", -100.0
    stick.find()
    stick.press("1")
    stick.code("abz2y-k9m3q")
    assert "told this machine no number" in stick.shown.bench or "not told this machine a number" in stick.shown.bench
    stick.token = "a-knock"
    stick.code("abz2y-k9m3q")
    assert (stick.begun, stick.shown.typing) == ([], ("Number", ""))
    for key in program.number_of(stick.nonce, stick.token, stick.key) + "\r":
        stick.press(key)
    assert stick.begun == ["7-abc"]


def test_the_code_to_scan_is_drawn_two_rows_a_line_with_its_margin(program: ModuleType) -> None:
    lines = program.code_lines(["101", "010", "111"])
    assert lines[0] == "█" * 7
    assert lines[1] == "██▄▀▄██"  # rows 1 and 2: dark is left out, light is drawn
    assert len({len(line) for line in lines}) == 1
    shown = filled(program, 1)
    shown.qr, shown.log, shown.doing = program.code_lines(["10" * 12] * 25), [], ""
    for size in ((80, 25), (64, 24)):
        lines = program.screen(shown, *size)
        assert sum("█" in line for _, line in lines) == len(shown.qr)
        assert any("Bench found" in line for _, line in lines)
    assert not any("█" in line for _, line in program.screen(shown, 80, 14))  # no room: the rest is worth more


def test_the_stick_knows_itself_by_what_the_image_carries(program: ModuleType) -> None:
    assert guid_bytes(DISK) == program.DISK_GUID


@pytest.mark.parametrize("text", ["mount", "mkswap", "swapon", "mdadm", "vgchange", "lvm"])
def test_its_first_program_mounts_no_drive_and_assembles_nothing(text: str) -> None:
    lines = [
        line
        for line in (LIVE / "init").read_text().splitlines()
        if text in line.split("#")[0].split() or f"$B {text}" in line
    ]
    assert all(kind in line for line in lines for kind in ("mount -t",))
    assert not any(f"-t {kind}" in line for line in lines for kind in ("ext", "vfat", "ntfs", "auto"))


@pytest.mark.parametrize(
    ("path", "bytes_", "wanted"),
    [
        ("kernel/drivers/ata/ahci.ko", b"\0license=GPL\0", True),
        ("kernel/drivers/md/raid1.ko", b"", False),
        ("kernel/fs/ext4/ext4.ko", b"", False),
        ("kernel/fs/fat/vfat.ko", b"", True),
        ("kernel/drivers/net/ethernet/x/y.ko", b"\0firmware=y.bin\0", False),
        ("kernel/drivers/net/ethernet/realtek/r8169.ko", b"\0firmware=y.bin\0", True),
        ("kernel/drivers/net/wireless/w.ko", b"", False),
        ("kernel/drivers/md/dm-mod.ko", b"", False),
        ("kernel/drivers/scsi/lpfc/lpfc.ko", b"", False),
    ],
)
def test_what_is_not_on_it_cannot_mount_or_assemble(path: str, bytes_: bytes, wanted: bool, tmp_path: Path) -> None:
    place = tmp_path / path
    place.parent.mkdir(parents=True)
    place.write_bytes(bytes_)
    assert _fits(tmp_path, path) is wanted


def test_the_image_is_whole_or_not_there_and_no_smaller_than_it_can_be(tmp_path: Path) -> None:
    small = tmp_path / "vmlinuz"
    small.write_bytes(b"k" * 1000)
    made = build.Parts({"live/vmlinuz": small}, b"\x90" * 440)
    with pytest.raises(InputError, match=f"expected at least {LEAST} MiB"):
        write_image(tmp_path / "out.img", made, 40)
    with pytest.raises(InputError, match="a file that can be written"):
        write_image(tmp_path / "no" / "out.img", made)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["vmlinuz"]


@pytest.mark.parametrize(
    ("arguments", "wrong"),
    [
        ([], "got neither"),
        (["x.img", "--to", "/dev/null"], "got both"),
        (["x.img", "--serial", "Q"], "got it alone"),
        (["{there}"], "got a folder"),
        (["{there}/no/x.img"], "got no such folder"),
    ],
)
def test_bad_arguments_are_one_line(
    arguments: list[str], wrong: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert main(["stick", *(a.format(there=tmp_path) for a in arguments)]) == 2
    said = capsys.readouterr().err
    assert wrong in said
    assert said.count("\n") == 1


@pytest.mark.parametrize(
    ("device", "wrong"), [("/dev/no-such", "No such file"), ("/dev/null", "got a file"), (__file__, "got a file")]
)
def test_only_a_stick_is_written_to(device: str, wrong: str) -> None:
    with pytest.raises(InputError, match=wrong):
        facts_of(device)


def test_this_computers_own_drive_is_refused() -> None:
    own = next(
        (
            f"/dev/{p.name}"
            for p in Path("/sys/block").iterdir()
            if (p / "removable").read_text().strip() == "0"
            and "/usb" not in str(p.resolve())
            and Path(f"/dev/{p.name}").is_block_device()
        ),
        None,
    )
    if own is None:
        pytest.skip("no drive of this computer can be seen from here")
    with pytest.raises(InputError, match="got a drive of this computer"):
        facts_of(own)


def test_a_computer_that_cannot_build_says_what_it_lacks(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(build.shutil, "which", lambda tool, path=None: None if tool in ("syslinux", "mcopy") else tool)
    with pytest.raises(InputError, match="tools of mtools, syslinux"):
        build.expect_tools()


NAMES = {"busybox-static": "busybox-static_1.35_amd64.deb", "kmod": "kmod_30_amd64.deb"}


@pytest.mark.parametrize(
    ("listed", "cut", "words"),
    [(2, False, ""), (1, False, "expected 2 packages of Debian's, got 1"), (2, True, "Could not resolve")],
)
def test_packages_that_cannot_be_had_are_one_sentence_and_none_is_taken_that_was_cut_off(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, listed: int, cut: bool, words: str
) -> None:
    def run(*command: str, cwd: Path) -> bytes:
        if "--print-uris" in command:
            return "".join(
                f"'http://deb/{name}' {name} 1000 SHA256:0\n" for name in list(NAMES.values())[:listed]
            ).encode()
        for package in command[3:]:
            (cwd / NAMES[package]).write_bytes(b"half" if cut else b"whole")
            if cut:
                raise build.NotBuildableError("stick: apt-get: Could not resolve 'deb.debian.org'")
        return b""

    monkeypatch.setattr(build, "run", run)
    if not words:
        assert [f.name for f in build._fetched(tmp_path, list(NAMES), lambda text: None)] == sorted(NAMES.values())
        assert {f.read_bytes() for f in tmp_path.glob("*.deb")} == {b"whole"}
        return
    with pytest.raises(InputError, match=words):
        build._fetched(tmp_path, list(NAMES), lambda text: None)
    assert not list(tmp_path.glob("*.deb"))


def a_device() -> tuple[str, str]:
    """A block device of this machine that is mounted: its place and its name."""
    for line in Path("/proc/mounts").read_text().splitlines():
        place = Path(line.split()[0])
        if line.startswith("/dev/") and place.is_block_device():
            return str(place), place.resolve().name
    pytest.skip("nothing is mounted here from a block device that can be seen")


@pytest.mark.parametrize(
    ("removable", "holder", "words"),
    [("0", "", "got a drive of this computer"), ("1", "dm-0", "that dm-0 stands on"), ("1", "", "is mounted")],
)
def test_a_stick_that_something_uses_is_not_written_to(tmp_path: Path, removable: str, holder: str, words: str) -> None:
    device, name = a_device()
    own = tmp_path / "block" / name
    (own / "holders").mkdir(parents=True)
    (own / "removable").write_text(f"{removable}\n")
    (own / "size").write_text("4194304\n")
    if holder:
        (own / "holders" / holder).touch()
    with pytest.raises(InputError, match=words):
        facts_of(device, tmp_path)


def test_a_partition_is_no_stick(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="got a partition or something else"):
        facts_of(a_device()[0], tmp_path)


@pytest.mark.parametrize("shop", ["Gullhaven Repair Loft", "a.b\\c" * 30, "", "ö" * 80])
def test_the_bench_announces_itself_by_a_name_that_dns_takes(shop: str) -> None:
    name = service_name(shop)
    assert 0 < len(name.encode()) <= 63
    assert "." not in name
