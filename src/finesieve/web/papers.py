"""The papers of an order as a page and as a PDF, by one template."""

from fastapi import Request
from starlette.responses import Response

from finesieve.services.commerce.papers import Paper
from finesieve.web.pdf import pdf_of
from finesieve.web.templating import render, render_text

__all__ = ["paper_page", "paper_pdf"]

_TEMPLATE = "web/paper.html"


def paper_page(request: Request, paper: Paper) -> Response:
    """A paper to look at, and to print."""
    return render(request, _TEMPLATE, {"paper": paper, "opened": paper})


def paper_pdf(paper: Paper) -> Response:
    """A paper to save or to send."""
    made = pdf_of(render_text(_TEMPLATE, {"paper": paper, "opened": paper}))
    name = f"{paper.title.lower().replace(' ', '-')}-{paper.number}.pdf"
    return Response(made, media_type="application/pdf", headers={"Content-Disposition": f'inline; filename="{name}"'})
