"""Addresses: the API under /api/, the front end everywhere else."""

from django.urls import path, re_path, register_converter
from drf_spectacular.views import SpectacularJSONAPIView

from aptwire_server.plans import (
    benching,
    chosen,
    drafts,
    elsewhere,
    gestures,
    history,
    listing,
    loading,
    moving,
    paper,
    queueing,
    rules,
    sessions,
    taking,
    views,
)
from aptwire_server.plans.front import front


class Number:
    """A number that the database can hold."""

    regex = "[0-9]{1,9}"

    def to_python(self, value: str) -> int:
        """The number."""
        return int(value)

    def to_url(self, value: int) -> str:
        """Its digits."""
        return str(value)


register_converter(Number, "number")
handler400 = "aptwire_server.plans.errors.bad_request"
handler403 = "aptwire_server.plans.errors.forbidden"
handler404 = "aptwire_server.plans.errors.not_found"
handler500 = "aptwire_server.plans.errors.broken"
urlpatterns = [
    path("api/health", sessions.health),
    path("api/session", sessions.session),
    path("api/schema", SpectacularJSONAPIView.as_view(), name="schema"),
    path("api/columns/<str:of>", chosen.chosen),
    path("api/plans", listing.plans),
    path("api/plans/import", listing.import_plan),
    path("api/plans/read", listing.read_host_states),
    path("api/bin", listing.bin_list),
    path("api/bin/<uuid:plan_id>", listing.bin_item),
    path("api/bin/<uuid:plan_id>/restore", listing.restore),
    path("api/plans/<uuid:plan_id>", views.plan),
    path("api/plans/<uuid:plan_id>/copy", listing.copy_plan),
    path("api/plans/<uuid:plan_id>/export", views.export_plan),
    path("api/plans/<uuid:plan_id>/page", views.plan_page),
    path("api/plans/<uuid:plan_id>/tree", views.tree),
    path("api/plans/<uuid:plan_id>/could", views.could),
    path("api/plans/<uuid:plan_id>/teams", views.teams),
    path("api/plans/<uuid:plan_id>/edits", views.edits),
    path("api/plans/<uuid:plan_id>/undo", views.undo),
    path("api/plans/<uuid:plan_id>/redo", views.redo),
    path("api/plans/<uuid:plan_id>/revisions", views.revisions),
    path("api/plans/<uuid:plan_id>/changes", views.changes),
    path("api/plans/<uuid:plan_id>/history", history.history),
    path("api/plans/<uuid:plan_id>/compare", history.compare),
    path("api/plans/<uuid:plan_id>/bring-back", history.bring_back),
    path("api/plans/<uuid:plan_id>/marks", history.marks),
    path("api/plans/<uuid:plan_id>/marks/<number:number>", history.mark),
    path("api/plans/<uuid:plan_id>/verdicts", views.verdicts),
    path("api/plans/<uuid:plan_id>/findings/<str:finding_id>", views.finding),
    path("api/plans/<uuid:plan_id>/preview", views.preview_edits),
    path("api/plans/<uuid:plan_id>/gestures", gestures.gestures),
    path("api/plans/<uuid:plan_id>/drafts", drafts.drafts),
    path("api/plans/<uuid:plan_id>/draft", drafts.draft),
    path("api/plans/<uuid:plan_id>/beside", drafts.beside),
    path("api/plans/<uuid:plan_id>/rebase", drafts.rebased),
    path("api/plans/<uuid:plan_id>/land", drafts.landing),
    path("api/plans/<uuid:plan_id>/take-up", drafts.take_up),
    path("api/plans/<uuid:plan_id>/patterns", gestures.patterns),
    path("api/plans/<uuid:plan_id>/sheet", paper.sheet),
    path("api/plans/<uuid:plan_id>/strand-drawing", paper.strand_drawing),
    path("api/plans/<uuid:plan_id>/ping-frames", paper.ping_frames),
    path("api/plans/<uuid:plan_id>/decks-drawing", paper.decks_drawing),
    path("api/plans/<uuid:plan_id>/sheets", taking.sheets),
    path("api/plans/<uuid:plan_id>/topology", elsewhere.topology),
    path("api/plans/<uuid:plan_id>/report", paper.report),
    path("api/plans/<uuid:plan_id>/validation", paper.validated),
    path("api/plans/<uuid:plan_id>/trace", views.trace),
    path("api/plans/<uuid:plan_id>/ping", views.get_ping),
    path("api/plans/<uuid:plan_id>/leases", views.list_leases),
    path("api/plans/<uuid:plan_id>/rules", rules.rules),
    path("api/plans/<uuid:plan_id>/rule", rules.rule),
    path("api/plans/<uuid:plan_id>/lattice", views.segments_by_hosts),
    path("api/plans/<uuid:plan_id>/meetings", rules.meetings),
    path("api/plans/<uuid:plan_id>/meeting", rules.one_meeting),
    path("api/plans/<uuid:plan_id>/load", loading.load),
    path("api/plans/<uuid:plan_id>/load-widths", loading.load_widths),
    path("api/plans/<uuid:plan_id>/readings", loading.readings),
    path("api/plans/<uuid:plan_id>/queues", queueing.queue_hosts),
    path("api/plans/<uuid:plan_id>/queue-plan", queueing.queue_plan),
    path("api/plans/<uuid:plan_id>/queue-scripts", queueing.queue_scripts),
    path("api/plans/<uuid:plan_id>/moves", moving.moves),
    path("api/plans/<uuid:plan_id>/move", moving.move),
    path("api/plans/<uuid:plan_id>/clearing", moving.clearing),
    path("api/plans/<uuid:plan_id>/strand", views.strand),
    path("api/plans/<uuid:plan_id>/segment-alone", views.segment_alone),
    path("api/plans/<uuid:plan_id>/cable-alone", views.cable_alone),
    path("api/plans/<uuid:plan_id>/bench", benching.runs),
    path("api/plans/<uuid:plan_id>/bench/<number:number>", benching.run),
    path("api/plans/<uuid:plan_id>/bench/<number:number>/cancel", benching.cancel),
    path("api/plans/<uuid:plan_id>/bench/<number:number>/difference/<number:story>", benching.difference),
    re_path(r"^(?!api/|assets/).*$", front),
]
