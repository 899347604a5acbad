"""The door of the server: who may come in, how much they may bring, and what a browser is told to keep out.

One ASGI layer before everything else, because what is wrong with a request has to be known before anything of it is
kept:

- **Host**: a page that had its own name pointed at this machine (DNS rebinding) arrives with that name. Only addresses
and this machine's own
  names are let in.
- **Origin**: a change that a browser sends for another page is refused; so is one without JSON and without
`X-Gate-Check`, which a page of
  another origin cannot send without asking first. Programs that are no browser cannot be tricked by a page and need
  neither.
- **Size and time**: a body is counted while it comes in, and has to come in time.
- **JSON** that cannot be kept and read back (half a letter of UTF-16, nesting without end, numbers beyond all bounds)
is refused before it is
  parsed into anything.
- Every answer forbids framing, sniffing and inline scripts.
"""

from __future__ import annotations

import asyncio
import ipaddress
import json
import re
import secrets
import socket
from collections.abc import Awaitable, Callable, Iterable, MutableMapping
from contextlib import suppress
from html import escape
from typing import Any
from urllib.parse import quote

from starlette.concurrency import run_in_threadpool
from starlette.responses import HTMLResponse

from gatecheck.server.errors import problem
from gatecheck.server.people.devices import Devices
from gatecheck.server.people.technicians import Technicians, roles
from gatecheck.server.wire import WHO

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

HEADER = b"x-gate-check"
AUTHORITY_PATH = "/authority.crt"
LEADS_ON = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Gate Check</title>
<meta name="viewport" content="width=device-width">
<h1>Gate Check</h1>
<p><a href="{place}">Open the encrypted page</a></p>
<p>This device does not know the bench yet? <a href="/authority.crt">Install the bench's certificate</a> once, then open
the page. On the bench's own computer, under Devices, stand the steps and the words to compare.</p>
</html>"""
COOKIE, SIGNED_IN = "gatecheck", "gatecheck-who"
_MIB = 1 << 20
_LARGEST = (
    (re.compile(r"/api/tickets/\d+/files$"), 22 * _MIB),
    (re.compile(r"/api/tickets/\d+/recordings$"), 25 * _MIB),
    (re.compile(r"/api/link/pages$"), 7 * _MIB),
    (re.compile(r"/api/link/copy$"), 9 * _MIB),
)
_LARGEST_ELSE = _MIB
_BODY_SECONDS, _PART_SECONDS = 120.0, 20.0
_DRAIN_SECONDS, _MOST_DRAINED = 1.0, 8 * _MIB
_DEEPEST, _LONGEST_NUMBER = 30, 18
_FOR_THE_PROBE = re.compile(r"/(probe$|p/|s/|api/link/)")
_OPEN_TO_ALL = re.compile(r"/(assets/|authority\.crt$|api/pair$|api/me$|api/authority$)")
"""what a device that is not paired may ask for: the page that pairs it"""
_WITHOUT_SIGN_IN = re.compile(r"/api/(pair|sign-in|sign-out|approve)$|/api/tickets/\d+/sheet$")
"""what nobody has to sign in for: coming in, and what is asked with a body and changes nothing"""
_STRINGS, _BRACKETS = re.compile(rb'"[^"\\]*+(?:\\.[^"\\]*+)*+(?:"|\\?\Z)', re.S), re.compile(rb"[\[\]{}]")
"""a string, or one that never ends, up to the end: each byte is looked at once"""
_HOST = re.compile(r"(?:\[([0-9a-f:.]+)\]|([^\[\]:/@?#\s]+))(?::\d{1,5})?")
_ONCE = (b"host", b"origin", b"content-type", b"content-length", b"cookie", b"sec-fetch-site")
"""headers that may stand there once: of two, this layer and the routes behind it could take different ones"""
_OFF_THE_LOOP = 4096
"""bytes of JSON from which on it is looked at beside the event loop"""
NONCE = "nonce"

_ALWAYS = (
    (b"x-content-type-options", b"nosniff"),
    (b"x-frame-options", b"DENY"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-opener-policy", b"same-origin"),
    (b"cross-origin-resource-policy", b"same-origin"),
    (
        b"permissions-policy",
        (
            b"camera=(self), microphone=(self), geolocation=(), payment=(), usb=(), serial=(), bluetooth=(), "
            b"browsing-topics=()"
        ),
    ),
)


def policy(nonce: str) -> bytes:
    """Content-Security-Policy: nothing from elsewhere, nothing inline but the style sheets that carry this answer's
    nonce."""
    return (
        "default-src 'none'; script-src 'self'; connect-src 'self'; font-src 'self'; img-src 'self' data: blob:; "
        "media-src 'self' blob:; manifest-src 'self'; worker-src 'self'; "
        f"style-src 'self' 'nonce-{nonce}'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'"
    ).encode()


class Refusal(Exception):
    """A request that is not let in: status, title, what and why."""

    def __init__(self, status: int, title: str, detail: str, needs: str | None = None) -> None:
        super().__init__(detail)
        self.status, self.title, self.detail, self.needs = status, title, detail, needs


def own_names() -> frozenset[str]:
    """The names by which this machine may be called, besides its addresses."""
    name = socket.gethostname().lower()
    return frozenset({"localhost", name, f"{name}.local", name.split(".")[0], f"{name.split('.')[0]}.local"} - {""})


MOST_OF_A_URL = 8192
"""bytes of a path and its query: nothing of ours comes near (RFC 9110, 4.1 asks for 8,000 at least)"""


def _is_short(scope: Scope) -> None:
    """Raises Refusal for a URL beyond any sense."""
    size = len(scope.get("raw_path") or b"") + len(scope.get("query_string") or b"")
    if size > MOST_OF_A_URL:
        raise Refusal(414, "URL too long", f"URL: expected at most {MOST_OF_A_URL} bytes, got {size}")


class RequestGuard:
    """Lets requests in. `names`: host names besides addresses that the server answers to; `needs_tls`: what comes
    from another computer is encrypted, but for what live systems ask for."""

    def __init__(
        self,
        app: App,
        devices: Devices,
        technicians: Technicians,
        names: Iterable[str] = (),
        *,
        needs_tls: bool = False,
    ) -> None:
        self.app, self.devices, self.technicians, self.needs_tls = app, devices, technicians, needs_tls
        self.names = own_names() | {name.lower() for name in names}

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        nonce = secrets.token_urlsafe(12)
        scope.setdefault("state", {})[NONCE] = nonce

        async def dressed(message: Message) -> None:
            if message["type"] == "http.response.start":
                own = {name for name, _ in message.get("headers", [])}
                more = [*_ALWAYS, (b"content-security-policy", policy(nonce))]
                if scope["path"].startswith("/api/"):
                    more.append((b"cache-control", b"no-store"))
                message["headers"] = [*message.get("headers", []), *(pair for pair in more if pair[0] not in own)]
            await send(message)

        headers = {name.lower(): value for name, value in scope["headers"]}
        token = None
        try:
            _is_short(scope)
            _is_sent_once(scope)
            self._is_for_us(headers)
            if await self._led_on(scope, headers, receive, dressed):
                return
            self._is_wanted(scope, headers)
            token = WHO.set(self._technician(scope, headers, self._who(scope, headers)))
            body = (
                await self._body(scope, headers, receive)
                if scope["method"] not in ("GET", "HEAD", "OPTIONS")
                else receive
            )
            await self.app(scope, body, dressed)
        except Refusal as refusal:
            await problem(refusal.status, refusal.title, refusal.detail, refusal.needs)(scope, receive, dressed)
        finally:
            if token is not None:
                WHO.reset(token)

    async def _led_on(self, scope: Scope, headers: MutableMapping[bytes, bytes], receive: Receive, send: Send) -> bool:
        """A browser that asks without encryption gets a page that leads to the encrypted one. False for what live
        systems and tablets that have no certificate yet need. Raises Refusal for the rest."""
        path = str(scope["path"])
        is_plain = self.needs_tls and scope.get("scheme", "http") == "http" and not is_here(scope)
        if not is_plain or _FOR_THE_PROBE.match(path) or path == AUTHORITY_PATH:
            return False
        if scope["method"] not in ("GET", "HEAD") or path.startswith("/api/"):
            raise Refusal(403, "Not encrypted", f"{path}: expected https, got plain http")
        host = headers.get(b"host", b"").decode("latin-1")
        query = scope.get("query_string") or b""
        place = quote(path) + ("?" + quote(query.decode("latin-1"), safe="=&%-._~") if query else "")
        await HTMLResponse(LEADS_ON.format(place=escape(f"https://{host}{place}")))(scope, receive, send)
        return True

    # --- who ---------------------------------------------------------------------------------------------------

    def _is_for_us(self, headers: MutableMapping[bytes, bytes]) -> None:
        """The host that was asked for is an address, or a name of this machine."""
        host = headers.get(b"host", b"").decode("latin-1").lower()
        found = _HOST.fullmatch(host)
        if found and (_is_address(found[1]) if found[1] else found[2] in self.names or _is_address(found[2])):
            return
        raise Refusal(421, "Not this machine", f"Host: expected an address of this machine, got {host[:80]!r}")

    def _is_wanted(self, scope: Scope, headers: MutableMapping[bytes, bytes]) -> None:
        """A change comes from our own page, or from no page at all; what is for the probe comes from no other page,
        whatever it asks."""
        for_probe = bool(_FOR_THE_PROBE.match(scope["path"]))
        if scope["method"] in ("GET", "HEAD", "OPTIONS") and not for_probe:
            return
        origin, site = (
            headers.get(b"origin", b"").decode("latin-1"),
            headers.get(b"sec-fetch-site", b"").decode("latin-1"),
        )
        host = headers.get(b"host", b"").decode("latin-1")
        if origin and origin.lower() != f"{scope.get('scheme', 'http')}://{host}".lower():
            raise Refusal(403, "Another page's request", f"Origin: expected this server's own, got {origin[:80]!r}")
        if site not in ("", "same-origin", "none"):
            raise Refusal(403, "Another page's request", f"Sec-Fetch-Site: expected same-origin, got {site[:20]!r}")
        if for_probe:
            return  # it brings a secret that no page has
        is_json = _media_type(headers) == b"application/json"
        by_browser = origin or site or headers.get(b"user-agent", b"").startswith(b"Mozilla/")
        if by_browser and not is_json and HEADER not in headers:
            raise Refusal(403, "Another page's request", "expected JSON, or the header X-Gate-Check")

    def _who(self, scope: Scope, headers: MutableMapping[bytes, bytes]) -> str | None:
        """Initials of a paired device; None on this very computer. Raises Refusal for a device that is neither."""
        path = scope["path"]
        if is_here(scope) or _FOR_THE_PROBE.match(path):
            return None
        device = self.devices.of_token(_cookie(headers, COOKIE))
        if device is not None:
            scope["state"]["device"] = device.id
            return device.initials
        if _OPEN_TO_ALL.match(path) or (scope["method"] in ("GET", "HEAD") and not path.startswith("/api/")):
            return None
        raise Refusal(
            401, "Not paired", "this device is not paired with the bench: take the code from the bench's own screen"
        )

    def _technician(self, scope: Scope, headers: MutableMapping[bytes, bytes], device: str | None) -> str | None:
        """Initials that are written for this request: of whoever has signed in at this browser, where the shop knows
        its technicians. Raises Refusal for a change by nobody, or by somebody who may not make it alone."""
        path, method = str(scope["path"]), str(scope["method"])
        if not self.technicians.is_on or _FOR_THE_PROBE.match(path):
            return device
        token = _cookie(headers, SIGNED_IN)
        is_look = method in ("GET", "HEAD", "OPTIONS")
        own = self.technicians.of_token(token, is_change=not is_look)
        if own is not None:
            scope["state"]["technician"] = own
        if is_look or _WITHOUT_SIGN_IN.match(path):
            return own.initials if own else device
        if own is None:
            raise Refusal(401, "Not signed in", "expected somebody who has signed in with a PIN, got nobody", "sign-in")
        right = roles().right_for(method, path)
        by = own.initials if right is None else self.technicians.allowed(token, own, right)
        if by is None:
            words = f"expected somebody who may {roles().rights[str(right)]}, got {own.initials}, {own.role}"
            raise Refusal(403, "Not alone", words, right)
        return by

    # --- how much ----------------------------------------------------------------------------------------------

    async def _body(self, scope: Scope, headers: MutableMapping[bytes, bytes], receive: Receive) -> Receive:
        """The body, counted and in time; where it is JSON, checked too."""
        most = next((size for path, size in _LARGEST if path.search(scope["path"])), _LARGEST_ELSE)
        said = headers.get(b"content-length", b"")
        if said and (not said.isdigit() or len(said) > 15 or int(said) > most):
            raise Refusal(
                413, "Too large", f"body: expected at most {most >> 20} MiB, got {said[:20].decode('latin-1')} bytes"
            )
        parts: list[bytes] = []
        total, more = 0, True
        end = asyncio.get_running_loop().time() + _BODY_SECONDS
        while more:
            try:
                async with asyncio.timeout(min(_PART_SECONDS, max(0.01, end - asyncio.get_running_loop().time()))):
                    message = await receive()
            except TimeoutError:
                raise Refusal(
                    408, "Too slow", f"body: expected it within {_BODY_SECONDS:.0f} s, got {total} bytes"
                ) from None
            if message["type"] == "http.disconnect":
                raise Refusal(400, "Gone", "the client left in the middle of its body")
            parts.append(message.get("body", b""))
            total += len(parts[-1])
            more = message.get("more_body", False)
            if total > most:
                await _drained(receive)
                raise Refusal(413, "Too large", f"body: expected at most {most >> 20} MiB, got more")
        kind = _media_type(headers)
        if total and (
            kind in (b"", b"application/json") or kind.endswith(b"+json")
        ):  # what the routes take for JSON; where nobody said what it is, they do
            parts = [b"".join(parts)]
            if total < _OFF_THE_LOOP:
                check_json(parts[0])
            else:
                await run_in_threadpool(check_json, parts[0])
        left = iter(
            [{"type": "http.request", "body": part, "more_body": at + 1 < len(parts)} for at, part in enumerate(parts)]
        )

        async def replay() -> Message:
            return next(left, None) or await receive()

        return replay


def _media_type(headers: MutableMapping[bytes, bytes]) -> bytes:
    return headers.get(b"content-type", b"").split(b";")[0].strip().lower()


def _is_sent_once(scope: Scope) -> None:
    """Raises Refusal for a request that says two things."""
    seen: set[bytes] = set()
    for name, _ in scope["headers"]:
        low = name.lower()
        if low in seen and low in _ONCE:
            raise Refusal(400, "Request not usable", f"{low.decode('latin-1')}: expected it once, got it twice")
        seen.add(low)


async def _drained(receive: Receive) -> None:
    """A little of what still comes is taken and dropped: a connection that is closed on unread bytes is reset, and
    takes the answer with it."""
    taken, more = 0, True
    with suppress(TimeoutError):
        async with asyncio.timeout(_DRAIN_SECONDS):
            while more and taken < _MOST_DRAINED:
                message = await receive()
                taken += len(message.get("body", b""))
                more = message.get("more_body", False)


def check_json(body: bytes) -> None:
    """Raises Refusal for JSON that could be kept and never be read back."""
    depth = 0
    for bracket in _BRACKETS.finditer(_STRINGS.sub(b"", body)):
        depth += 1 if bracket[0] in b"[{" else -1
        if depth > _DEEPEST:
            raise Refusal(422, "Request not usable", f"body: expected at most {_DEEPEST} levels, got more")
    try:
        read = json.loads(body, parse_int=_integer, parse_float=_number, parse_constant=_constant)
        json.dumps(read, ensure_ascii=False).encode("utf-8")
    except UnicodeEncodeError as error:
        raise Refusal(
            422,
            "Request not usable",
            f"body: expected text that can be written, got half a letter (U+{ord(error.object[error.start]):04X})",
        ) from None
    except (ValueError, RecursionError) as error:
        raise Refusal(422, "Request not usable", f"body: expected JSON, got {str(error)[:120]}") from None


def _integer(text: str) -> int:
    if len(text.lstrip("-")) > _LONGEST_NUMBER:
        raise ValueError(f"a number of {len(text)} digits")
    return int(text)


def _number(text: str) -> float:
    value = float(text)
    if value in (float("inf"), float("-inf")):
        raise ValueError(f"a number beyond all bounds ({text[:20]})")
    return value


def _constant(text: str) -> float:
    raise ValueError(text)


def _is_address(name: str) -> bool:
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True


def is_here(scope: Scope) -> bool:
    """The request comes from this very computer."""
    client = scope.get("client")
    if client is None:
        return False
    try:
        address = ipaddress.ip_address(client[0].partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(address, "ipv4_mapped", None)
    return bool((mapped or address).is_loopback)


def _cookie(headers: MutableMapping[bytes, bytes], wanted: str) -> str:
    for part in headers.get(b"cookie", b"").decode("latin-1").split(";"):
        name, _, value = part.strip().partition("=")
        if name == wanted:
            return value
    return ""
