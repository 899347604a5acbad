"""The bench tells the network where it is, so that a machine started from the stick finds it by itself: multicast DNS
(RFC 6762), service type `_gatecheck._tcp` (RFC 6763)."""

from __future__ import annotations

import socket
from collections.abc import Iterator
from contextlib import contextmanager

SERVICE = "_gatecheck._tcp.local."


def addresses(host: str) -> list[str]:
    """The IPv4 addresses under which the network reaches a server that listens at `host`."""
    import ifaddr

    own = [str(ip.ip) for adapter in ifaddr.get_adapters() for ip in adapter.ips if ip.is_IPv4]
    outside = [ip for ip in own if not ip.startswith(("127.", "169.254."))]
    return outside if host in ("0.0.0.0", "", "::") else [ip for ip in outside if ip == host]


def service_name(shop: str) -> str:
    """The shop's name as a label of DNS: at most 63 bytes, no dots."""
    plain = "".join(" " if c in ".\\" or not c.isprintable() else c for c in shop).strip() or "bench"
    return plain.encode()[:40].decode("utf-8", "ignore").strip() + f" on {socket.gethostname().split('.')[0][:20]}"


@contextmanager
def announced(shop: str, host: str, port: int) -> Iterator[list[str]]:
    """While this lasts the bench is announced; the addresses that are. Empty, and nothing is sent, where there is no
    network, or the port of multicast DNS is another's: the server runs all the same."""
    found = addresses(host)
    if not found:
        yield []
        return
    from zeroconf import Error, IPVersion, ServiceInfo, Zeroconf

    try:
        speaker = Zeroconf(interfaces=found, ip_version=IPVersion.V4Only)
    except OSError:
        yield []
        return
    try:
        info = ServiceInfo(
            SERVICE,
            f"{service_name(shop)}.{SERVICE}",
            addresses=[socket.inet_aton(a) for a in found],
            port=port,
            properties={"protocol": "1"},
            server=f"{socket.gethostname().split('.')[0]}.local.",
        )
        try:
            speaker.register_service(info, allow_name_change=True)
        except (Error, OSError):
            found = []
        yield found
    finally:
        speaker.close()
