"""Routes of the Surface instrument."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import Response

from gatecheck.server.surface.service import Surfaces
from gatecheck.server.surface.wire import SurfaceOut, SurfacesOut
from gatecheck.server.wire import TicketId

Lba = Annotated[int | None, Query(ge=0, le=1 << 48)]


def surface_routes(surfaces: Surfaces) -> APIRouter:
    router = APIRouter(prefix="/api")

    @router.get("/tickets/{ticket_id}/surfaces", operation_id="getSurfaces")
    def get_surfaces(ticket_id: TicketId) -> SurfacesOut:
        return surfaces.all(ticket_id)

    @router.get("/tickets/{ticket_id}/surfaces/{read}", operation_id="getSurface")
    def get_surface(
        ticket_id: TicketId,
        read: str,
        first: Lba = None,
        end: Lba = None,
        bins: Annotated[int, Query(ge=1, le=1200)] = 320,
    ) -> SurfaceOut:
        return surfaces.one(ticket_id, read, first, end, bins)

    @router.get("/tickets/{ticket_id}/surfaces/{read}/csv", operation_id="getSurfaceCsv", response_class=Response)
    def get_surface_csv(
        ticket_id: TicketId, read: str, what: Annotated[str, Query(pattern="^(places|map)$")] = "places"
    ) -> Response:
        headers = {"Content-Disposition": f'attachment; filename="surface-{what}.csv"'}
        return Response(surfaces.csv(ticket_id, read, what), media_type="text/csv; charset=utf-8", headers=headers)

    return router
