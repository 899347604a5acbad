"""Routes of papers, pictures and the shop's page."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, File, Form, Path, UploadFile
from fastapi.responses import Response
from msgspec import to_builtins

from gatecheck.core.work.shop import ShopPage
from gatecheck.server.papers.pictures import LARGEST
from gatecheck.server.papers.service import Papers
from gatecheck.server.papers.wire import EarlierOut, PaceOut, PaperOut, PapersOut, ShopPageIn, ShopPageOut
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.server.wire import By, ByIn, TicketId
from gatecheck.store import StoreError

Kind = Annotated[str, Path(max_length=20)]
Digest = Annotated[str, Path(min_length=64, max_length=64)]


def _page(page: ShopPage) -> ShopPageOut:
    return ShopPageOut.model_validate({**to_builtins(page), "may_print": page.may_print})


def paper_routes(papers: Papers) -> APIRouter:
    router = APIRouter(prefix="/api")

    @router.post("/tickets/{ticket_id}/pictures", operation_id="addPicture", status_code=201)
    def add_picture(
        ticket_id: TicketId,
        file: Annotated[UploadFile, File()],
        by: Annotated[By, Form()],
        says: Annotated[str, Form(max_length=400)] = "",
        evidence: Annotated[bool, Form()] = False,
        key: Annotated[str | None, Form(max_length=80)] = None,
    ) -> TicketOut:
        data = file.file.read(LARGEST + 1)
        if len(data) > LARGEST:
            raise StoreError(f"{(file.filename or 'picture')[:80]}: expected at most {LARGEST >> 20} MiB, got more")
        return papers.add_picture(
            ticket_id, file.filename or "picture", data, says=says, evidence=evidence, by=by, key=key
        )

    @router.get("/tickets/{ticket_id}/pictures/{sha256}", operation_id="getPicture", response_class=Response)
    def get_picture(ticket_id: TicketId, sha256: Digest) -> Response:
        headers = {"Cache-Control": "private, max-age=86400", "X-Content-Type-Options": "nosniff"}
        return Response(papers.picture(ticket_id, sha256), media_type="image/jpeg", headers=headers)

    @router.get("/tickets/{ticket_id}/earlier", operation_id="getEarlier")
    def get_earlier(ticket_id: TicketId) -> list[EarlierOut]:
        return papers.earlier(ticket_id)

    @router.get("/tickets/{ticket_id}/papers", operation_id="getPapers")
    def get_papers(ticket_id: TicketId) -> PapersOut:
        return papers.papers(ticket_id)

    @router.get("/tickets/{ticket_id}/papers/ledger.csv", operation_id="getLedgerCsv", response_class=Response)
    def get_ledger_csv(ticket_id: TicketId) -> Response:
        number = papers.tickets.row_of(ticket_id).number
        headers = {"Content-Disposition": f'attachment; filename="{number.lower()}.csv"'}
        return Response(papers.csv(ticket_id), media_type="text/csv; charset=utf-8", headers=headers)

    @router.get("/tickets/{ticket_id}/papers/{kind}", operation_id="getPaper")
    def get_paper(ticket_id: TicketId, kind: Kind) -> PaperOut:
        return papers.paper(ticket_id, kind)

    @router.get("/tickets/{ticket_id}/papers/{kind}/pdf", operation_id="getPaperPdf", response_class=Response)
    def get_paper_pdf(ticket_id: TicketId, kind: Kind, size: str | None = None) -> Response:
        number = papers.tickets.row_of(ticket_id).number
        headers = {
            "Content-Disposition": f'inline; filename="{number.lower()}-{kind}.pdf"',
            "X-Content-Type-Options": "nosniff",
        }
        return Response(papers.pdf(ticket_id, kind, size), media_type="application/pdf", headers=headers)

    @router.post("/tickets/{ticket_id}/erase", operation_id="eraseCustomer")
    def erase_customer(ticket_id: TicketId, request: ByIn) -> TicketOut:
        return papers.erase(ticket_id, by=request.by)

    @router.get("/shop", operation_id="getShopPage")
    def get_shop_page() -> ShopPageOut:
        return _page(papers.shop.page)

    @router.put("/shop", operation_id="putShopPage")
    def put_shop_page(request: ShopPageIn) -> ShopPageOut:
        return _page(papers.put_shop_page(request.page, by=request.by))

    @router.get("/paces", operation_id="getPaces")
    def get_paces() -> list[PaceOut]:
        return [PaceOut.model_validate(to_builtins(p)) for p in papers.paces()]

    return router
