"""Which handler serves which endpoint."""

from __future__ import annotations

from pathlib import Path

from starlette.routing import BaseRoute, Mount, Route
from starlette.staticfiles import StaticFiles

from . import api, pages


def routes() -> list[BaseRoute]:
    """A fresh list of the application's routes."""
    return [
        Route("/", pages.home),
        Mount("/assets", StaticFiles(directory=Path(__file__).parent / "assets")),
        Route("/sign-in", pages.sign_in, methods=["GET", "POST"]),
        Route("/sign-out", pages.sign_out, methods=["POST"]),
        Route("/desk", pages.desk),
        Route("/accessions", pages.accession_list),
        Route("/accessions", pages.add_accession, methods=["POST"]),
        Route("/accessions/new", pages.accession_form),
        Route("/accessions/{accession_id}", pages.accession),
        Route("/accessions/{accession_id}", pages.update_accession, methods=["POST"]),
        Route("/accessions/{accession_id}/edit", pages.accession_form),
        Route("/accessions/{accession_id}/withdraw", pages.withdraw_accession, methods=["POST"]),
        Route("/trials", pages.trial_list),
        Route("/trials", pages.start_trial, methods=["POST"]),
        Route("/trials/new", pages.trial_form),
        Route("/trials/{trial_id}", pages.trial),
        Route("/trials/{trial_id}", pages.update_trial, methods=["POST"]),
        Route("/trials/{trial_id}/edit", pages.trial_form),
        Route("/exchanges", pages.exchange_list),
        Route("/exchanges", pages.start_exchange, methods=["POST"]),
        Route("/exchanges/{exchange_id}", pages.exchange),
        Route("/exchanges/{exchange_id}/send", pages.send_exchange, methods=["POST"]),
        Route("/members", pages.member_list),
        Route("/members/{member_id}", pages.member),
        Route("/members/{member_id}/suspend", pages.suspend_member, methods=["POST"]),
        Route("/reports", pages.report_list),
        Route("/reports/germination", pages.germination_report),
        Route("/reports/{report}", pages.report),
        Route("/api/token", api.make_token, methods=["POST"]),
        Route("/api/me", api.me),
        Route("/api/accessions", api.accessions),
        Route("/api/accessions/{accession_id}", api.accession),
        Route("/api/accessions/{accession_id}", api.change_accession, methods=["PATCH"]),
        Route("/api/trials/{trial_id}", api.trial),
        Route("/api/trials/{trial_id}", api.change_trial, methods=["PATCH"]),
        Route("/api/trials/{trial_id}", api.delete_trial, methods=["DELETE"]),
        Route("/api/exchanges", api.exchanges),
    ]
