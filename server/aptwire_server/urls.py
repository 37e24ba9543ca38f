"""Addresses: the API under /api/, the front end everywhere else."""

from django.urls import path, re_path
from drf_spectacular.views import SpectacularAPIView

from aptwire_server.plans import benching, live, sessions, views
from aptwire_server.plans.front import front

urlpatterns = [
    path("api/health", sessions.health),
    path("api/session", sessions.session),
    path("api/schema", SpectacularAPIView.as_view(), name="schema"),
    path("api/plans", views.plans),
    path("api/plans/import", views.import_plan),
    path("api/plans/read", views.read_host_states),
    path("api/plans/<uuid:plan_id>", views.plan),
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
    path("api/plans/<uuid:plan_id>/verdicts", views.verdicts),
    path("api/plans/<uuid:plan_id>/findings/<str:finding_id>", views.finding),
    path("api/plans/<uuid:plan_id>/preview", views.preview_edits),
    path("api/plans/<uuid:plan_id>/trace", views.trace),
    path("api/plans/<uuid:plan_id>/strand", views.strand),
    path("api/plans/<uuid:plan_id>/bench", benching.runs),
    path("api/plans/<uuid:plan_id>/bench/<int:number>", benching.run),
    path("api/plans/<uuid:plan_id>/bench/<int:number>/cancel", benching.cancel),
    path("api/plans/<uuid:plan_id>/bench/<int:number>/difference/<int:story>", benching.difference),
    path("api/plans/<uuid:plan_id>/events", live.events),
    re_path(r"^(?!api/|assets/).*$", front),
]
