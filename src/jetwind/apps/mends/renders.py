"""What mends do to the look of a message: pictures as it is and as it is mended, and the proof that sure mends change no pixel."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from jetwind.apps.blobs import store
from jetwind.apps.intake.selectors import numbered
from jetwind.apps.jobs import services as jobs
from jetwind.apps.mends.models import MendedRender, PreparedMends
from jetwind.apps.mends.services import copies_with_one, prepare_now, read_like
from jetwind.apps.previews.as_whom import AsWhom, whom_of
from jetwind.apps.previews.copies import reader_copy
from jetwind.apps.workspace.desk import Held, at_the_workbench
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.errors import JetwindError
from jetwind.core.images.difference import difference
from jetwind.core.message import Message
from jetwind.core.profiles import profiles
from jetwind.engines.bounded import REWRITING, BoundedRewriter, PastBudget
from jetwind.engines.browser import ALL_SECONDS, Capture, CaptureRequest, Captures

#: Sure mends that are rendered each by itself where all of them together change a pixel.
_MOST_ALONE = 12
_Taken = Callable[[str, Capture | Exception], None]
_Side = MendedRender.Side


def prove_looks(revision_id: int, work_id: int, browser: Captures) -> None:
    """Render a revision as it is and with its mends, in the chosen profiles. A sure mend that changes a pixel is withheld. Safe to run twice.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
    """
    prepared = PreparedMends.objects.select_related("revision__mailing__workspace").filter(revision=revision_id).first()
    if prepared is None:
        return
    names = [name for name in chosen_profiles(prepared.revision.mailing.workspace) if name in profiles()]
    looks = _Looks(revision_id, at_the_workbench(whom_of, revision_id), names=names, work_id=work_id, browser=browser)
    MendedRender.objects.filter(revision=revision_id).delete()
    looks.take(_Side.NOW, prepared.revision.source_sha256)
    looks.take(_Side.SURE, prepared.sure_sha256)
    if differing := at_the_workbench(differing_profiles, revision_id, _Side.SURE.value):
        looks.withhold(differing)
        prepared.refresh_from_db()
    looks.take(_Side.ALL, prepared.all_sha256)
    at_the_workbench(differing_profiles, revision_id, _Side.ALL.value)


class _Looks:
    """The renders of one revision."""

    def __init__(self, revision_id: int, whom: AsWhom, *, names: Sequence[str], work_id: int, browser: Captures) -> None:
        self.revision_id, self.whom, self.names = revision_id, whom, names
        self.work_id, self.browser = work_id, browser
        self.done = 0

    def take(self, side: MendedRender.Side, digest: str) -> None:
        """The pictures of one side, made anew."""
        MendedRender.objects.filter(revision=self.revision_id, side=side).delete()

        def keep(name: str, capture: Capture | Exception) -> None:
            row = MendedRender(revision_id=self.revision_id, side=side, profile=name)
            if isinstance(capture, Exception):
                row.problem = f"It cannot be rendered: {capture}"[:300]
            else:
                row.blob_sha256, row.content_type = store.keep(capture.image), capture.content_type
                row.width, row.height = capture.width, capture.height
            row.save()

        self._capture(digest, self.names, keep)

    def withhold(self, differing: Sequence[str]) -> None:
        """Find the sure mends that change a pixel in the first of these profiles, and withhold them; where they cannot be told apart, all of them."""
        name = differing[0]
        said = profiles()[name].name
        alone = at_the_workbench(copies_alone, self.revision_id)
        refused: dict[str, str] = {}
        for finding, digest in alone.items():
            pictures: dict[str, Capture | Exception] = {}
            self._capture(digest, [name], pictures.__setitem__)
            capture = pictures.get(name)
            if isinstance(capture, Capture) and at_the_workbench(
                is_different, self.revision_id, name, store.keep(capture.image), capture.width
            ):
                refused[finding] = f"It changes how the message looks in “{said}”."
        for _ in range(2):
            at_the_workbench(prepare_without, self.revision_id, refused)
            self.take(_Side.SURE, PreparedMends.objects.get(revision=self.revision_id).sure_sha256)
            left = at_the_workbench(differing_profiles, self.revision_id, _Side.SURE.value)
            if not left:
                return
            offers = PreparedMends.objects.get(revision=self.revision_id).offers
            sure = [one["finding"] for one in offers if one["kind"] == "sure"]
            refused |= dict.fromkeys(sure, f"Together with other mends it changes how the message looks in “{profiles()[left[0]].name}”.")

    def _capture(self, digest: str, names: Sequence[str], taken: _Taken) -> None:
        asked: list[tuple[str, CaptureRequest]] = []
        with Held(copy_of, self.revision_id, digest, self.whom, budget=REWRITING) as held:
            rewriter = BoundedRewriter(held)
            for name in names:
                try:
                    asked.append((name, CaptureRequest.of(rewriter(profiles()[name]), profiles()[name])))
                except (PastBudget, JetwindError) as failure:
                    taken(name, failure)
        stopped: list[BaseException] = []

        def done(number: int, capture: Capture | Exception) -> bool:
            jobs.drop_broken_connections()
            name = asked[number][0]
            taken(name, capture)
            self.done += 1
            try:
                total = max(len(self.names) * 3, self.done)
                jobs.report(self.work_id, done=self.done, total=total, doing=f"rendering in {profiles()[name].name}")
            except (jobs.Cancelled, jobs.GivenBack) as stop:
                stopped.append(stop)
                return False
            return True

        self.browser.capture_all([request for _, request in asked], done, seconds=ALL_SECONDS)
        if stopped:
            raise stopped[0]


def copy_of(revision_id: int, digest: str, whom: AsWhom) -> Message:
    """A copy of a revision's file as a reader gets it. To be asked of a helper."""
    revision = numbered(revision_id)
    return reader_copy(revision, read_like(revision, store.fetch(digest)), whom)


def copies_alone(revision_id: int) -> dict[str, str]:
    """The copies that have one sure mend each. To be asked of the workbench."""
    return copies_with_one(numbered(revision_id), _MOST_ALONE)


def prepare_without(revision_id: int, refused: Mapping[str, str]) -> None:
    """Prepare the mends anew without these. To be asked of the workbench."""
    prepare_now(numbered(revision_id), refused)


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
