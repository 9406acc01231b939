"""Settings."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods

from jetwind.apps.audit.services import verified
from jetwind.apps.jobs.services import latest_by_subject
from jetwind.apps.ui.keeping import Entries, form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace import domains, services
from jetwind.apps.workspace.access import PersonRequest, asks, may
from jetwind.apps.workspace.check_list import check_groups, chosen_settings
from jetwind.apps.workspace.forms import SettingsForm
from jetwind.apps.workspace.machine_list import machine_rows, what_none_can
from jetwind.core.profiles import profiles, usual


def _as_it_stands(request: PersonRequest) -> None:
    """Read the workspace anew where a form was sent: the page shows what holds now beside what was typed."""
    if request.method == "POST":
        request.workspace.refresh_from_db()


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def settings(request: PersonRequest) -> HttpResponse:
    """The settings of the workspace."""
    workspace = request.workspace
    form = SettingsForm(request.POST or None, initial=SettingsForm.initial_of(workspace))
    if kept(request, form, lambda shown: services.configure(request.user, workspace, **form.cleaned_data, shown=shown)) is not None:
        messages.success(request, "The settings are kept. Messages that they touch are checked again.")
        return redirect("settings")
    _as_it_stands(request)
    machines = machine_rows()
    page = {
        "form": form,
        "workspace": workspace,
        "shown": as_shown(services.shown_settings(workspace)),
        "may_configure": may(request.user, "workspace:configure", workspace),
        "log": verified(),
        "machines": machines,
        "none_can": what_none_can(machines),
        "section": "settings",
    }
    return form_page(request, "workspace/settings.html", page)


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def own_domains(request: PersonRequest) -> HttpResponse:
    """Which domains of the test sends are known to be the workspace's own, and the record that shows one to be."""
    workspace = request.workspace
    if request.method == "POST":
        domain = request.POST.get("domain", "")
        domains.look_for_record(request.user, workspace, domain)
        messages.info(request, f"The record of {domain} is being looked for.")
        return redirect("own-domains")
    proven = {one.domain: one for one in workspace.proven_domains.all()}
    shown = sorted({*workspace.test_domains, *proven})[:40]
    subjects = {domain: domains.subject_of(workspace, domain) for domain in shown}
    looks = latest_by_subject(domains.DOMAINS, subjects.values())
    rows = [
        {
            "domain": domain,
            "proof": proven.get(domain) or next((one for one in proven.values() if domain.endswith(f".{one.domain}")), None),
            "name": domains.record_name(domain),
            "value": domains.record_value(workspace, domain),
            "work": looks.get(subjects[domain]),
        }
        for domain in shown
    ]
    may_configure = may(request.user, "workspace:configure", workspace)
    return render(request, "workspace/domains.html", {"rows": rows, "may_configure": may_configure, "section": "settings"})


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def checks(request: PersonRequest) -> HttpResponse:
    """Levels and thresholds of every check."""
    workspace = request.workspace
    entries = Entries()
    posted = request.POST if request.method == "POST" else None
    if kept(request, entries, lambda shown: services.set_checks(request.user, workspace, chosen_settings(request.POST), shown)) is not None:
        messages.success(request, "The checks are kept. Messages that they touch are checked again.")
        return redirect("checks")
    _as_it_stands(request)
    page = {
        "groups": check_groups(workspace.check_settings, posted),
        "wrong": entries.wrong,
        "may_configure": may(request.user, "workspace:configure", workspace),
        "changed": len(workspace.check_settings),
        "shown": as_shown(workspace.check_settings),
        "section": "settings",
    }
    return form_page(request, "workspace/checks.html", page)


#: A table of some twenty rows; a larger file is something else.
_LARGEST_CSV = 100_000


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def audience(request: PersonRequest) -> HttpResponse:
    """Which per cent of the audience reads in which client profile, entered or imported."""
    workspace = request.workspace
    entries = Entries()
    is_import = request.POST.get("do") == "import"
    typed = {name: request.POST.get(name, "").strip() for name in profiles()} if request.method == "POST" and not is_import else None

    def keep(before: Any) -> None:
        shares = _imported(request) if typed is None else _entered(typed)
        services.set_audience(request.user, workspace, shares, None if typed is None else before)

    if kept(request, entries, keep) is not None:
        messages.success(request, "The audience is kept. Messages that have not been released are rendered in its profiles.")
        return redirect("audience")
    _as_it_stands(request)
    shown = typed if typed is not None else {name: f"{share:g}" for name, share in workspace.audience.items()}
    page = {
        "rows": [(profile, shown.get(name, ""), min(100, float(workspace.audience.get(name, 0)))) for name, profile in profiles().items()],
        "total": sum(workspace.audience.values()),
        "shown": as_shown(workspace.audience),
        "usual": len(usual()),
        "wrong": entries.wrong,
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return form_page(request, "workspace/audience.html", page)


def _imported(request: PersonRequest) -> dict[str, float]:
    file = request.FILES.get("file")
    if file is None:
        raise Refused("Choose a CSV file first.")
    if (file.size or 0) > _LARGEST_CSV:
        raise Refused(f"“{file.name}” has {file.size:,} octets; a list of profiles has a few thousand.")
    return services.audience_from_csv(file.read())


def _entered(given: dict[str, str]) -> dict[str, float]:
    shares: dict[str, float] = {}
    for name, text in given.items():
        if text:
            try:
                shares[name] = float(text.rstrip("% ").replace(",", "."))
            except ValueError:
                raise Refused(f"{profiles()[name].name}: “{text}” is not a percentage.") from None
    return shares
