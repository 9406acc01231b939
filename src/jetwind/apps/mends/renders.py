"""What mends do to the look of a message: pictures as it is and as it is mended, and the mends that these disprove."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from jetwind.apps.blobs import store
from jetwind.apps.intake.selectors import numbered
from jetwind.apps.jobs import services as jobs
from jetwind.apps.mends.models import MendedRender, PreparedMends
from jetwind.apps.mends.services import copies_with_one, copy_of_near, faults_on_renders, prepare_now, read_like, straying
from jetwind.apps.previews.as_whom import AsWhom, whom_of
from jetwind.apps.previews.copies import COPYING, Copy, Made, made_of
from jetwind.apps.workspace.desk import Held, at_the_workbench
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.checking.mends import MendKind, measured_checks
from jetwind.core.errors import JetwindError
from jetwind.core.images.difference import difference
from jetwind.core.profiles import Profile, Rewritten, profiles
from jetwind.core.renders import Render, Renders
from jetwind.core.renders.measured import Measured
from jetwind.core.renders.showing import Shown
from jetwind.engines.bounded import PastBudget
from jetwind.engines.browser import ALL_SECONDS, Capture, CaptureRequest, Captures, OutOfTime, losses_shown

#: Mends that are rendered each by itself where all of them together show something that none of them says.
_MOST_ALONE = 12
#: Called with the number of renders that are done, how many there will be, and what is being done.
Report = Callable[[int, int, str], None]
_Taken = Callable[[str, Capture | Exception], None]
_Side = MendedRender.Side


def prove_looks(revision_id: int, report: Report, browser: Captures, only: str = "") -> None:
    """Render a revision as it is and with its mends, in the chosen profiles; with ``only``, those of one check. Safe to run twice.

    A sure mend that changes how the message looks is withheld; so is a mend whose finding is read from renders and stays there, and one that
    shows where it does not say. ``report`` is called after each render.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
    """
    prepared = PreparedMends.objects.select_related("revision__mailing__workspace").filter(revision=revision_id).first()
    if prepared is None:
        return
    names = [name for name in chosen_profiles(prepared.revision.mailing.workspace) if name in profiles()]
    looks = _Looks(revision_id, at_the_workbench(whom_of, revision_id), names=names, report=report, browser=browser, only=only)
    MendedRender.objects.filter(revision=revision_id).delete()
    looks.take(_Side.NOW, prepared.revision.source_sha256)
    looks.take(_Side.SURE, prepared.sure_sha256)
    if differing := at_the_workbench(differing_profiles, revision_id, _Side.SURE.value):
        looks.withhold(differing)
    looks.take_all()
    at_the_workbench(differing_profiles, revision_id, _Side.ALL.value)


class _Looks:
    """The renders of one revision, and the mends that they disprove."""

    def __init__(self, revision_id: int, whom: AsWhom, *, names: Sequence[str], report: Report, browser: Captures, only: str) -> None:
        self.revision_id, self.whom, self.names = revision_id, whom, names
        self.report, self.browser, self.only = report, browser, only
        self.done = 0
        #: Why mends are withheld, by the finding's fingerprint.
        self.refused: dict[str, str] = {}
        #: How the message is laid out as it is, by profile.
        self.now: dict[str, Measured] = {}

    @property
    def prepared(self) -> PreparedMends:
        """The mends as they are prepared now."""
        return PreparedMends.objects.get(revision=self.revision_id)

    def take(self, side: MendedRender.Side, digest: str, *, with_losses: bool = False) -> Renders:
        """The pictures of one side, made anew, and what was measured on them."""
        MendedRender.objects.filter(revision=self.revision_id, side=side).delete()

        def keep(name: str, capture: Capture | Exception) -> None:
            row = MendedRender(revision_id=self.revision_id, side=side, profile=name)
            if isinstance(capture, Exception):
                row.problem = f"It cannot be rendered: {capture}"[:300]
            else:
                row.blob_sha256, row.content_type = store.keep(capture.image), capture.content_type
                row.width, row.height = capture.width, capture.height
            row.save()

        found = self._capture(digest, self.names, keep, with_losses=with_losses)
        if side == _Side.NOW:
            self.now = {name: render.measured for name, render in found.renders.items()}
        return found

    def withhold(self, differing: Sequence[str]) -> None:
        """Find the sure mends that change a pixel in the first of these profiles, and withhold them; where they cannot be told apart, all of them."""
        name = differing[0]
        said = profiles()[name].name
        for finding, digest in at_the_workbench(copies_alone, self.revision_id, MendKind.SURE).items():
            pictures: dict[str, Capture | Exception] = {}
            self._capture(digest, [name], pictures.__setitem__)
            capture = pictures.get(name)
            if isinstance(capture, Capture) and at_the_workbench(
                is_different, self.revision_id, name, store.keep(capture.image), capture.width
            ):
                self.refused[finding] = f"It changes how the message looks in “{said}”."
        for _ in range(2):
            self._prepare()
            self.take(_Side.SURE, self.prepared.sure_sha256)
            left = at_the_workbench(differing_profiles, self.revision_id, _Side.SURE.value)
            if not left:
                return
            sure = [one["finding"] for one in self.prepared.offers if one["kind"] == "sure"]
            self.refused |= dict.fromkeys(
                sure, f"Together with other mends it changes how the message looks in “{profiles()[left[0]].name}”."
            )

    def take_all(self) -> None:
        """The pictures with all mends that need no word; those that their renders disprove are withheld."""
        for is_last in (False, False, True):
            prepared = self.prepared
            own = [one for one in prepared.offers if one["kind"] == "to confirm"]
            # A declaration that a mend of a look writes may be dropped by a client, too.
            needs_losses = any(one["check"] in measured_checks() for one in own)
            found = self.take(_Side.ALL, prepared.all_sha256, with_losses=needs_losses)
            if not own:
                return
            refused = self._disproved(prepared.all_sha256, found, [one["finding"] for one in own], is_last=is_last)
            if not refused:
                return
            self.refused |= refused
            self._prepare()
        self.take(_Side.ALL, self.prepared.all_sha256)

    def _disproved(self, digest: str, found: Renders, own: Sequence[str], *, is_last: bool) -> dict[str, str]:
        """The mends that the renders of a copy with all of them disprove, each with the sentence that says why."""
        unproven, more = at_the_workbench(faults_of_copy, self.revision_id, digest, found)
        if unproven:
            return unproven
        astray = self._astray(*at_the_workbench(copy_with_near, self.revision_id), digest, found)
        if not more and not astray:
            return {}
        said = more or f"It shows beyond its place in “{profiles()[astray[0]].name}”."
        if is_last:
            return dict.fromkeys(own, f"Together with other mends: {said}")
        refused: dict[str, str] = {}
        names = list(self.names) if more else astray[:1]
        for finding, alone in at_the_workbench(copies_alone, self.revision_id, MendKind.CONFIRM).items():
            one = self._capture(alone, names, lambda name, capture: None, with_losses=more.startswith("appearance."))
            _, more_alone = at_the_workbench(faults_of_copy, self.revision_id, alone, one) if more else ({}, "")
            if more_alone or self._astray(alone, [finding], alone, one):
                refused[finding] = more_alone or said
        return refused or dict.fromkeys(own, f"Together with other mends: {said}")

    def _astray(self, near: str, findings: Sequence[str], digest: str, found: Renders) -> list[str]:
        """The profiles in which the copy with mends that show at their place alone shows elsewhere, too.

        ``found`` are the renders of the copy ``digest``: where that has more mends, such as a doctype, the other is rendered.
        """
        if near != digest:
            found = self._capture(near, self.names, lambda name, capture: None)
        measured = {name: (self.now[name], render.measured) for name, render in found.renders.items() if name in self.now}
        return at_the_workbench(straying_profiles, self.revision_id, near, findings, measured)

    def _prepare(self) -> None:
        at_the_workbench(prepare_without, self.revision_id, self.refused, self.only)

    def _capture(self, digest: str, names: Sequence[str], taken: _Taken, *, with_losses: bool = False) -> Renders:
        pages: dict[str, tuple[Profile, Rewritten]] = {}
        failed: dict[str, str] = {}
        stopped: list[BaseException] = []
        renders: dict[str, Render] = {}
        shown: list[Shown] | None = None
        with Held(copy_of, self.revision_id, digest, self.whom, budget=COPYING) as held:
            try:
                copy = Copy(self.whom, held)
            except (PastBudget, JetwindError) as failure:
                for name in names:
                    taken(name, failure)
                return Renders({}, dict.fromkeys(names, str(failure)))
            for name in names:
                try:
                    pages[name] = profiles()[name], copy.rewriter(profiles()[name])
                except (PastBudget, JetwindError) as failure:
                    failed[name] = str(failure)
                    taken(name, failure)
            asked = list(pages)

            def done(number: int, capture: Capture | Exception) -> bool:
                jobs.drop_broken_connections()
                name = asked[number]
                profile, page = pages[name]
                if isinstance(capture, Capture):
                    blocked = frozenset(copy.elements(sorted(page.blocked))) - {-1}
                    renders[name] = Render(profile, copy.measured(capture.measured), page.clipped, blocked)
                else:
                    failed[name] = str(capture)
                taken(name, capture)
                self.done += 1
                try:
                    self.report(self.done, max(len(self.names) * 3, self.done), f"rendering in {profile.name}")
                except (jobs.Cancelled, jobs.GivenBack) as stop:
                    stopped.append(stop)
                    return False
                return True

            browser = copy.beside(self.browser)
            browser.capture_all([CaptureRequest.of(page, profile) for profile, page in pages.values()], done, seconds=ALL_SECONDS)
            if stopped:
                raise stopped[0]
            if with_losses and renders and not failed:
                shown = self._losses(copy, {name: page for name, (_, page) in pages.items()}, browser)
        return Renders(
            {name: renders[name] for name in names if name in renders},
            failed,
            shown=tuple(shown) if shown is not None else None,
            untold="" if shown is not None else "losses were not tried on the mended copy",
            reader=self.whom.name,
        )

    def _losses(self, copy: Copy, pages: Mapping[str, Rewritten], browser: Captures) -> list[Shown] | None:
        self.report(self.done, max(len(self.names) * 3, self.done + 1), "trying which losses show")
        try:
            found = losses_shown(copy.rewriter, pages, [profiles()[name] for name in pages], browser)
        except OutOfTime:
            return None
        return copy.shown(found) if found is not None else None


def copy_of(revision_id: int, digest: str, whom: AsWhom) -> Made:
    """A copy of a revision's file as a reader gets it. To be asked of a helper."""
    revision = numbered(revision_id)
    return made_of(revision, read_like(revision, store.fetch(digest)), whom)


def copies_alone(revision_id: int, kind: MendKind) -> dict[str, str]:
    """The copies that have one mend of a kind each. To be asked of the workbench."""
    return copies_with_one(numbered(revision_id), kind, _MOST_ALONE)


def faults_of_copy(revision_id: int, digest: str, renders: Renders) -> tuple[dict[str, str], str]:
    """The mends that renders of a copy do not prove. To be asked of the workbench."""
    return faults_on_renders(numbered(revision_id), digest, renders)


def copy_with_near(revision_id: int) -> tuple[str, list[str]]:
    """The copy with all mends that show at their place alone. To be asked of the workbench."""
    return copy_of_near(numbered(revision_id))


def straying_profiles(
    revision_id: int, digest: str, findings: Sequence[str], measured: Mapping[str, tuple[Measured, Measured]]
) -> list[str]:
    """The profiles in which a copy shows what no mend says. To be asked of the workbench."""
    return straying(numbered(revision_id), digest, findings, measured)


def prepare_without(revision_id: int, refused: Mapping[str, str], only: str) -> None:
    """Prepare the mends anew without these. To be asked of the workbench."""
    prepare_now(numbered(revision_id), refused, only)


def differing_profiles(revision_id: int, side: str) -> list[str]:
    """The profiles in which a side differs from how the message looks now; the areas are noted. To be asked of the workbench."""
    now = {row.profile: row for row in MendedRender.objects.filter(revision=revision_id, side=_Side.NOW) if not row.problem}
    found = []
    for row in MendedRender.objects.filter(revision=revision_id, side=side, problem=""):
        before = now.get(row.profile)
        if before is not None and before.blob_sha256 != row.blob_sha256:
            row.areas = _areas(before, store.fetch(row.blob_sha256), row.width)
            row.save(update_fields=["areas"])
            if row.areas or before.height != row.height:
                found.append(row.profile)
    return found


def is_different(revision_id: int, profile: str, digest: str, width: int) -> bool:
    """Whether a picture differs from how the message looks now in a profile. To be asked of the workbench."""
    before = MendedRender.objects.filter(revision=revision_id, side=_Side.NOW, profile=profile, problem="").first()
    return before is not None and bool(_areas(before, store.fetch(digest), width))


def _areas(before: MendedRender, picture: bytes, width: int) -> list[list[float]]:
    found = difference(store.fetch(before.blob_sha256), before.width, picture, width)
    return [
        [100 * x / found.width, 100 * y / found.height, 100 * wide / found.width, 100 * tall / found.height]
        for x, y, wide, tall in found.areas()
    ]
