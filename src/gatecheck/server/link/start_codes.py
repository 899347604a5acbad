"""Handing the probe out: a code that is typed on the sick machine is exchanged for its link's secret, once."""

from __future__ import annotations

import hmac
from dataclasses import dataclass
from functools import lru_cache
from hashlib import sha256

from gatecheck.adapters.probe_script import probe_archive, start_line
from gatecheck.server.errors import LinkEndedError, LinkUnknownError, TooManyError
from gatecheck.server.link.sessions import Sessions, new_code
from gatecheck.server.people.throttle import Throttle
from gatecheck.server.shop import Shop
from gatecheck.server.tickets.service import Tickets
from gatecheck.store import links
from gatecheck.store.links import Link

_LONGEST_CODE = 20


@dataclass(frozen=True, slots=True)
class Trust:
    """`pin`: SHA-256 of the bench's public key, base64; `authority`: certificate of the shop's authority, PEM."""

    pin: str
    authority: str


class StartCodes:
    """Codes and what they open, over a shop's links. Who types wrong ones too often waits."""

    def __init__(self, shop: Shop, at_work: Tickets, sessions: Sessions) -> None:
        self.shop, self.tickets, self.sessions = shop, at_work, sessions
        self._throttle = Throttle(10, 60.0)
        self.trust: Trust | None = None
        """how live systems know this bench; None where it does not encrypt"""
        self._made = lru_cache(32)(self._make)

    def _make(self, base: str, code: str, secret: str) -> tuple[bytes, str]:
        """(the probe, the script that fetches it) for a link."""
        authority, pin = (
            (self.trust.authority, self.trust.pin) if self.trust and base.startswith("https:") else ("", "")
        )
        probe = probe_archive(base, secret, authority)
        return probe, start_line(base, code, pin=pin, sum=sha256(probe).hexdigest() if pin else "")

    def lines(self, base_url: str, link: Link) -> list[str]:
        """The lines to type on the sick machine, for each program that may be there to fetch with; none hides what went
        wrong. What can name the bench's key names it; what cannot checks the sum of what it got."""
        code, base = link.code or "", self.reached(base_url)
        if self.trust is None or not base.startswith("https:"):
            address = f"{base.rstrip('/')}/s/{code}"
            return [f"curl -fsS {address} | sh", f"wget -O- {address} | sh", f"busybox wget -O- {address} | sh"]
        _, script = self._made(base, code, link.secret)
        place, pin = f"{base.rstrip('/')}/s/{code}", f"sha256//{self.trust.pin}"
        plain = place.replace("https:", "http:", 1)
        checked = f"echo '{sha256(script.encode()).hexdigest()}  /tmp/g' | busybox sha256sum -c"
        return [
            f"curl -fsSk --pinnedpubkey {pin} {place} | sh",
            f"wget -O- --no-check-certificate --pinnedpubkey={pin} {place} | sh",
            f"busybox wget -O /tmp/g {plain} && {checked} && sh /tmp/g",
        ]

    def reached(self, base_url: str) -> str:
        """Where a live system finds the bench: encrypted, unless it is this computer itself."""
        if self.trust is None or any(own in base_url for own in ("//127.", "//localhost", "//[::1]")):
            return base_url
        return base_url.replace("http://", "https://", 1)

    def _of_code(self, code: str, source: str) -> Link:
        """The link that has this code, or this secret. Raises LinkUnknownError, LinkEndedError, TooManyError."""
        if not self._throttle.is_open(source):
            raise TooManyError("code: expected a pause after so many wrong ones, got another; wait a minute")
        if len(code) > _LONGEST_CODE:
            return self.sessions.link_with(code)
        said = code.strip().lower().encode()
        with self.shop.database.read() as connection:
            known = links.links_with_codes(connection)
        found = [link for link in known if hmac.compare_digest((link.code or "").encode(), said)]
        if not found:
            self._throttle.wrong(source)
            raise LinkUnknownError(
                "code: expected the one on the ticket's link sheet, got another, or one that was used"
            )
        if found[0].ended_at or self.tickets.row_of(found[0].ticket_id).closed_at:
            raise LinkEndedError("link: expected one that is open, got one that was ended")
        return found[0]

    def secret_for(self, code: str, source: str) -> str:
        """The secret of the link whose code this is; the code is good no more after that. Raises LinkUnknownError,
        LinkEndedError, TooManyError."""
        link = self._of_code(code, source)
        if len(code) <= _LONGEST_CODE:
            with self.shop.database.write() as connection:
                links.set_code(connection, link.ticket_id, new_code())
            self.sessions.notify(link.ticket_id, at_once=True)
        return link.secret

    def probe_for(self, code: str, base_url: str, source: str) -> bytes:
        """The probe with the server's address and the link's secret filled in, for its code, which is good no more
        after that. Raises LinkUnknownError, LinkEndedError, TooManyError."""
        secret = self.secret_for(code, source)
        return self._made(self.reached(base_url), code, secret)[0]

    def start_for(self, secret: str, base_url: str, source: str) -> str:
        """The script that fetches that probe; one that says why, where the code does not lead to it: a refusal that
        only a program reads helps nobody who stands in front of the machine."""
        try:
            link = self._of_code(secret, source)
        except TooManyError:
            return start_line(
                base_url,
                "",
                "too many wrong codes were tried. Wait a minute, then type the line that the ticket shows.",
            )
        except LinkUnknownError:
            return start_line(
                base_url,
                "",
                (
                    f"the bench knows no code {secret[:20]}, or it was used. The link sheet on the ticket shows the "
                    f"line "
                    f"that is good now."
                ),
            )
        except LinkEndedError:
            return start_line(
                base_url,
                "",
                "this link was ended on the bench. Open it again on the ticket and type the line that it shows.",
            )
        return self._made(self.reached(base_url), secret, link.secret)[1]
