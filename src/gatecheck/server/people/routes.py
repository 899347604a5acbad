"""Routes of pairing and of the list of devices."""

from __future__ import annotations

import socket

from fastapi import APIRouter, Request, Response

from gatecheck.server.people.devices import Devices
from gatecheck.server.people.technicians import Technicians, roles
from gatecheck.server.people.wire import (
    ApprovedOut,
    ApproveIn,
    AuthorityOut,
    CodeOut,
    DeviceOut,
    MeOut,
    PairIn,
    SignInIn,
    TechnicianChangeIn,
    TechnicianIn,
    TechnicianOut,
)
from gatecheck.server.qr import qr_svg
from gatecheck.server.request_guard import AUTHORITY_PATH, COOKIE, SIGNED_IN, is_here
from gatecheck.server.tls.authority import BenchTls
from gatecheck.server.wire import WHO, TicketId
from gatecheck.store.technicians import Technician

_YEAR = 365 * 86400


def people_routes(devices: Devices, technicians: Technicians, tls: BenchTls | None = None) -> APIRouter:
    router = APIRouter(prefix="/api")

    @router.get("/me", operation_id="getMe")
    def me(request: Request) -> MeOut:
        return _me(request, technicians, getattr(request.state, "technician", None))

    @router.post("/pair", operation_id="pairDevice", status_code=201)
    def pair(asked: PairIn, request: Request, response: Response) -> MeOut:
        source = request.client.host if request.client else ""
        name = asked.name.strip() or _device_name(request.headers.get("user-agent", ""))
        token = devices.pair(asked.code, name=name, initials=asked.initials.strip(), source=source)
        is_secure = request.url.scheme == "https"
        response.set_cookie(COOKIE, token, max_age=_YEAR, httponly=True, samesite="strict", secure=is_secure, path="/")
        return MeOut(
            here=is_here(request.scope),
            paired=True,
            initials=asked.initials.strip(),
            knows_technicians=technicians.is_on,
        )

    @router.post("/sign-in", operation_id="signIn")
    def sign_in(asked: SignInIn, request: Request, response: Response) -> MeOut:
        source = request.client.host if request.client else ""
        token, own = technicians.sign_in(asked.initials, asked.pin, source=source)
        is_secure = request.url.scheme == "https"
        response.set_cookie(SIGNED_IN, token, httponly=True, samesite="strict", secure=is_secure, path="/")
        return _me(request, technicians, own)

    @router.post("/sign-out", operation_id="signOut")
    def sign_out(request: Request, response: Response) -> MeOut:
        technicians.sign_out(request.cookies.get(SIGNED_IN, ""))
        response.delete_cookie(SIGNED_IN, path="/")
        return _me(request, technicians, None)

    @router.post("/approve", operation_id="approve")
    def approve(asked: ApproveIn, request: Request) -> ApprovedOut:
        source = request.client.host if request.client else ""
        token = request.cookies.get(SIGNED_IN, "")
        return ApprovedOut(by=technicians.approve(token, asked.right, asked.initials, asked.pin, source=source))

    @router.get("/technicians", operation_id="getTechnicians")
    def get_technicians() -> list[TechnicianOut]:
        return [
            TechnicianOut(
                id=t.id,
                initials=t.initials,
                role=t.role,
                rights=sorted(roles().roles[t.role].rights),
                added_by=t.added_by,
                added_at=t.added_at,
            )
            for t in technicians.all()
        ]

    @router.post("/technicians", operation_id="addTechnician", status_code=201)
    def add_technician(asked: TechnicianIn) -> list[TechnicianOut]:
        technicians.add(asked.initials, asked.role, asked.pin, by=asked.by)
        return get_technicians()

    @router.put("/technicians/{technician_id}", operation_id="changeTechnician")
    def change_technician(technician_id: TicketId, asked: TechnicianChangeIn) -> list[TechnicianOut]:
        technicians.change(technician_id, role=asked.role, pin=asked.pin)
        return get_technicians()

    @router.delete("/technicians/{technician_id}", operation_id="removeTechnician")
    def remove_technician(technician_id: TicketId) -> list[TechnicianOut]:
        technicians.remove(technician_id)
        return get_technicians()

    @router.post("/devices/code", operation_id="makeCode", status_code=201)
    def make_code(request: Request) -> CodeOut:
        code, seconds = devices.code()
        address = _address(request)
        return CodeOut(
            code=code,
            seconds=seconds,
            address=address,
            qr=qr_svg(f"{address}#pair={code}") if address else "",
            authority=_authority(address, tls) if tls is not None and address else None,
        )

    @router.get("/devices", operation_id="getDevices")
    def get_devices(request: Request) -> list[DeviceOut]:
        own = getattr(request.state, "device", None)
        return [
            DeviceOut(
                id=d.id, name=d.name, initials=d.initials, paired_at=d.paired_at, seen_at=d.seen_at, is_this=d.id == own
            )
            for d in devices.all()
        ]

    @router.get("/authority", operation_id="getAuthority")
    def authority(request: Request) -> AuthorityOut | None:
        address = _address(request)
        return _authority(address, tls) if tls is not None and address else None

    @router.delete("/devices/{device_id}", operation_id="revokeDevice")
    def revoke_device(device_id: TicketId, request: Request) -> list[DeviceOut]:
        devices.revoke(device_id)
        return get_devices(request)

    return router


def _me(request: Request, technicians: Technicians, own: Technician | None) -> MeOut:
    here, paired = is_here(request.scope), getattr(request.state, "device", None) is not None
    return MeOut(
        here=here,
        paired=paired,
        initials=own.initials if own else WHO.get(),
        knows_technicians=technicians.is_on and (here or paired),  # a stranger is told nothing of the shop
        signed_in=own is not None,
        role=own.role if own else None,
        rights=sorted(roles().roles[own.role].rights) if own else [],
    )


def _authority(address: str, tls: BenchTls) -> AuthorityOut:
    """Where a device fetches the authority's certificate, which it has before it can trust an encrypted page."""
    place = address.replace("https://", "http://", 1).rstrip("/") + AUTHORITY_PATH
    return AuthorityOut(words=tls.words, fingerprint=tls.fingerprint, place=place, qr=qr_svg(place))


def _address(request: Request) -> str:
    """Where another device finds this server; empty where it answers only here."""
    server = request.scope.get("server") or ("", 0)
    if not getattr(request.app.state, "is_public", False):
        return ""
    host = request.url.hostname or ""
    if host in ("localhost", "::1") or host.startswith("127."):
        host = own_address()
    scheme = "https" if getattr(request.app.state, "needs_tls", False) else request.url.scheme
    return f"{scheme}://{f'[{host}]' if ':' in host else host}:{request.url.port or server[1]}/" if host else ""


def own_address() -> str:
    """This machine's address on its network; empty without one. Nothing is sent."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asking:
        try:
            asking.connect(("192.0.2.1", 9))
        except OSError:
            return ""
        return str(asking.getsockname()[0])


def _device_name(agent: str) -> str:
    """A device in a word or two, by what its browser says of itself."""
    return "tablet or phone" if any(mark in agent for mark in ("Mobile", "Tablet", "Android", "iP")) else "computer"
