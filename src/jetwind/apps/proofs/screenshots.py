"""Pictures of real screens that show a test copy: held against the copy's render, and counted for the profile that a person names."""

from __future__ import annotations

import math
from dataclasses import dataclass

from django.conf import settings
from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs.models import ContentRender, Screenshot, TestCopy
from jetwind.apps.proofs.renders import render_mail
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.images.aligned import held_against
from jetwind.core.profiles import profiles
from jetwind.engines.bounded import PastBudget, photo_bounded
from jetwind.engines.browser import Captures

TASK = "proofs.hold_screenshot"
#: Octets of a picture, and pictures of one copy.
LARGEST, MOST = 12_000_000, 20


def keep(user: User, copy: TestCopy, data: bytes, profile: str) -> Screenshot:
    """Keep a picture of a screen, made anew from its pixels. Without a profile, the nearest by its width is taken, and it counts for none.

    Raises:
        NotAllowed, Refused: not permitted; released; no picture, or too large a one; as many as a copy takes.
    """
    workspace = copy.send.mailing.workspace
    permit(user, "proof:send", workspace)
    if len(data) > LARGEST:
        raise Refused(f"The picture has {len(data) / 1e6:.0f} MB; there is room for {LARGEST // 1_000_000} MB.")
    try:
        made = photo_bounded(data, start=settings.HELPERS_START)
    except PastBudget as past:
        raise Refused(f"The picture cannot be opened: {past}.") from past
    if made is None:
        raise Refused("The file is no picture that can be opened; save the screen as PNG or JPEG, of up to 40 million pixels.")
    content, width, height = made
    named = profile if profile in profiles() else nearest(width, workspace)
    with open_mailing(copy.send.mailing_id) as mailing:
        if Screenshot.objects.filter(copy=copy).count() >= MOST:
            raise Refused(f"This copy has {MOST} pictures of screens, which is as many as it takes.")
        kept = Screenshot.objects.create(
            copy=copy, profile=named, is_named=profile in profiles(), blob_sha256=store.keep(content), width=width, height=height, by=user
        )
        record("proof.screenshot-kept", actor=user, mailing=mailing, revision=copy.send.revision.number, address=copy.address)
        ContentRender.objects.get_or_create(content_sha256=copy.copy_sha256, profile=named)
        jobs.defer(TASK, needs="renders", screenshot_id=kept.pk)
    return kept


def nearest(width: int, workspace: Workspace) -> str:
    """The profile of the workspace whose picture is nearest in width to that of a screen, in device px."""
    wide = {name: profiles()[name].content_width * profiles()[name].pixel_ratio for name in chosen_profiles(workspace)}
    return min(wide, key=lambda name: abs(math.log(wide[name] / max(width, 1))))


def hold(screenshot: Screenshot, browser: Captures) -> None:
    """Hold a picture of a screen against the copy's render. Safe to run twice."""
    digest = screenshot.copy.copy_sha256
    render_mail(digest, [screenshot.profile], browser)
    shot = ContentRender.objects.filter(content_sha256=digest, profile=screenshot.profile).first()
    if shot is None or shot.state != ContentRender.State.DONE:
        told = {"problem": (shot.problem if shot is not None else "") or "The copy is not rendered in this profile."}
        Screenshot.objects.filter(pk=screenshot.pk).update(**told)
        return
    try:
        found = held_against(store.fetch(shot.blob_sha256), shot.width, store.fetch(screenshot.blob_sha256))
    except (store.BlobMissing, OSError):
        found = None
    if found is None:
        Screenshot.objects.filter(pk=screenshot.pk).update(problem="The picture and the render show nothing in common.")
        return
    Screenshot.objects.filter(pk=screenshot.pk).update(
        problem="",
        top=found.top,
        shown_height=found.height,
        likeness=found.likeness,
        share=found.share,
        areas=[list(area) for area in found.areas],
    )


@dataclass(frozen=True, slots=True)
class RealPictures:
    """What the pictures of real screens say of a profile in a workspace: how many there are, and their likeness to its renders, from 0 to 1.

    ``rows`` are the newest, each with its number, the message it shows, its likeness, and where it differs most, in words.
    """

    count: int
    mean: float
    least: float
    rows: list[tuple[int, str, float, str]]


def real_pictures(workspace: Workspace, profile: str) -> RealPictures | None:
    """What the pictures of real screens say of a profile; None where nobody brought one."""
    named = Screenshot.objects.filter(copy__send__mailing__workspace=workspace, profile=profile, is_named=True, likeness__isnull=False)
    found = list(named.select_related("copy__send__mailing", "copy__send__revision").order_by("-pk")[:50])
    if not found:
        return None
    values = [one.likeness or 0.0 for one in found]
    rows = [(one.pk, str(one.copy.send.revision), one.likeness or 0.0, where_most(one)) for one in found[:5]]
    return RealPictures(len(found), sum(values) / len(values), min(values), rows)


def where_most(one: Screenshot) -> str:
    """Where a picture differs most from its render, in words."""
    if not one.areas:
        return "nowhere"
    x, y, wide, tall = max(one.areas, key=lambda area: area[2] * area[3])
    return f"{y} to {y + tall} px from the top, {x} to {x + wide} px from the left"


@transaction.atomic
def name_profile(user: User, screenshot: Screenshot, profile: str) -> None:
    """Say which client a picture shows, so that it counts for its profile.

    Raises:
        NotAllowed, Refused: not permitted; no such profile.
    """
    permit(user, "proof:send", screenshot.copy.send.mailing.workspace)
    if profile not in profiles():
        raise Refused("Choose the client that the picture shows.")
    locked = Screenshot.objects.select_for_update(no_key=True).get(pk=screenshot.pk)
    if locked.is_named and locked.profile == profile:
        return
    locked.profile, locked.is_named, locked.likeness, locked.areas = profile, True, None, []
    locked.save(update_fields=["profile", "is_named", "likeness", "areas"])
    ContentRender.objects.get_or_create(content_sha256=screenshot.copy.copy_sha256, profile=profile)
    jobs.defer(TASK, needs="renders", screenshot_id=locked.pk)
