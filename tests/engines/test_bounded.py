"""Helper processes: what passes its budget is given up, the rest is answered."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Iterator
from functools import partial

import pytest

from jetwind.apps.demo import messages, pictures
from jetwind.core.checking import CheckResult, Context, Hit, Level, Options, Outcome, Place, registry
from jetwind.core.checking.declaration import Check
from jetwind.core.images.lighter import before_and_after, lighter
from jetwind.core.message import Message, Shared, read_bytes
from jetwind.core.profiles import profiles, rewrite
from jetwind.core.reports import as_json, as_text, review
from jetwind.engines.bounded import (
    REWRITING,
    BoundedRewriter,
    Budget,
    Helper,
    PastBudget,
    Start,
    before_and_after_bounded,
    lightening,
    lighter_bounded,
    review_bounded,
)
from jetwind.engines.dictionaries import Installed
from tests.factories import mail

SMALL = Budget(answer_seconds=0.5, all_seconds=1.2, memory=200_000_000)
STARTS: list[Start] = ["fork", "server"]


LONG: Shared[bool] = Shared("long")
NEVER: Shared[None] = Shared("never")


class Unloadable:
    """Can be pickled, cannot be loaded: as a value would be that needs what only the asking process has."""

    def __reduce__(self) -> tuple[object, ...]:
        return int, ("no number",)


def length(given: str) -> int:
    """A plain question."""
    return len(given)


def endless(given: str) -> None:
    """Never answers."""
    while True:
        pass


def large(given: str) -> int:
    """Needs more memory than there is."""
    return len(bytearray(900_000_000))


def deadly(given: str) -> None:
    """Takes its process along."""
    os.kill(os.getpid(), signal.SIGKILL)


def wrong(given: str) -> None:
    """Raises."""
    raise ValueError(f"no {given}")


@pytest.mark.parametrize("start", STARTS)
class TestHelper:
    """One process, asked again and again; another where it was ended."""

    def test_answers_and_failures(self, start: Start) -> None:
        """Both come back as they are."""
        with Helper("seven", SMALL, start) as helper:
            assert helper.ask(length) == 5
            with pytest.raises(ValueError, match="no seven"):
                helper.ask(wrong)
            assert helper.ask(length) == 5

    @pytest.mark.parametrize(
        ("question", "said"), [(endless, "took longer than 0.5 s"), (large, "needed more than 200 MB"), (deadly, "took the process down")]
    )
    def test_past_the_budget(self, start: Start, question: object, said: str) -> None:
        """Given up with a reason, and the next question is answered by a fresh helper."""
        with Helper("seven", SMALL, start) as helper:
            with pytest.raises(PastBudget, match=said):
                helper.ask(question)  # type: ignore[arg-type]
            assert helper.ask(length) == 5

    def test_a_fault_of_ours_is_no_limit(self, start: Start) -> None:
        """What is given cannot be loaded in the helper: that is raised as it is, and not said of the message."""
        with Helper(Unloadable(), SMALL, start) as helper, pytest.raises(ValueError, match="no number"):
            helper.ask(length)

    def test_the_whole_budget(self, start: Start) -> None:
        """Once it is spent nothing more is started."""
        with Helper("seven", SMALL, start) as helper:
            reasons = []
            for _ in range(4):
                with pytest.raises(PastBudget) as past:
                    helper.ask(endless)
                reasons.append(str(past.value))
            assert reasons[0] == "took longer than 0.5 s"
            assert reasons[-1] == "the message takes longer than 1.2 s in all"

    def test_gently_it_lives_on(self, start: Start) -> None:
        """An answer is broken off, but not what further answers need: it is finished first, kept, and told as no time of its own."""
        with Helper(read_bytes(b"Subject: x\n\nword", "a.eml"), Budget(5.0, 20.0, 200_000_000), start) as helper:
            for question in (endless, builds_then_loops):
                with pytest.raises(PastBudget, match=r"took longer than 0\.2 s"):
                    helper.within(0.2, gently=True).ask(question)
                assert helper.lives
            assert helper.ask(has_built)
            assert helper.within(0.2, gently=True).ask(has_built)

    @pytest.mark.parametrize("question", ["never_built", "deaf"])
    def test_gently_has_an_end(self, start: Start, question: str) -> None:
        """What is never finished, and what hears no signal, is ended; so it is when it is asked for again."""
        with Helper(read_bytes(b"Subject: x\n\nword", "a.eml"), Budget(1.0, 20.0, 200_000_000), start) as helper:
            for _ in range(2):
                with pytest.raises(PastBudget, match=r"took longer than 0\.2 s"):
                    helper.within(0.2, gently=True).ask(globals()[question])
                assert not helper.lives
            assert not helper.ask(has_built)

    def test_the_whole_budget_of_one_that_lives(self, start: Start) -> None:
        """Answers that were broken off count, though their helper goes on."""
        with Helper("seven", SMALL, start) as helper:
            reasons = []
            for _ in range(5):
                with pytest.raises(PastBudget) as past:
                    helper.within(0.4, gently=True).ask(endless)
                reasons.append(str(past.value))
            assert reasons[0] == "took longer than 0.4 s"
            assert reasons[-1] == "the message takes longer than 1.2 s in all"

    def test_nothing_is_left(self, start: Start) -> None:
        """A closed helper has no process."""
        helper = Helper("seven", SMALL, start)
        helper.ask(length)
        pid = helper._process.pid
        helper.close()
        time.sleep(0.1)
        with pytest.raises(ProcessLookupError):
            os.kill(pid, 0)


def builds_then_loops(given: Message) -> None:
    """Works out for six tenths of a second what others need, then never ends."""
    given.shared(LONG, lambda: spent(0.6))
    endless("")


def never_built(given: Message) -> None:
    """Never ends working out what others need."""
    given.shared(NEVER, lambda: endless(""))


def deaf(given: Message) -> int:
    """One call of C that takes minutes and looks at no signal."""
    return sum(range(10**11))


def has_built(given: Message) -> bool:
    """Whether what others need is still there."""
    return given.shared(LONG, lambda: False)


def spent(seconds: float) -> bool:
    """So much processor time."""
    began = time.process_time()
    while time.process_time() - began < seconds:
        pass
    return True


def plain(results: tuple[CheckResult, ...]) -> list[tuple[str, Outcome, str, list[str]]]:
    """Answers in a form to compare."""
    return [(result.check, result.outcome, result.reason, [finding.fingerprint for finding in result.findings]) for result in results]


class TestReview:
    """All checks in a helper."""

    @pytest.mark.parametrize("start", STARTS)
    def test_the_same_as_without(self, start: Start) -> None:
        """Outcomes, findings, spam and summary of a demo message are those of a review in this process."""
        message = read_bytes(messages.autumn_sale(), "a.eml")
        context = Context(dictionaries=Installed())
        here, there = review(message, context), review_bounded(message, context, start=start)
        assert plain(there.results) == plain(here.results)
        assert (there.spam, there.summary) == (here.spam, here.summary)
        assert there.findings[0].message == here.findings[0].message

    def test_one_check_that_never_ends(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """It ran out, and the others are answered; it never counts as clear."""
        known = registry()

        def find(message: Message, context: Context, options: Options) -> Iterator[Hit]:
            """Loop."""
            while True:
                pass
            yield Hit("never", Place("message"))

        slow = Check(
            "links.slow-one",
            "Slow",
            level=Level.FIX,
            why="x.",
            fix="X.",
            basis="House",
            samples=(),
            find=find,
            options=Options,
            module="here",
        )
        monkeypatch.setitem(known, "links.slow-one", slow)
        message = read_bytes(b"<a href='#'>x</a>", "a.html")
        answer = review_bounded(message, Context(), ["links.empty", "links.insecure", "links.slow-one"], start="fork", budget=SMALL)
        by_id = {result.check: result for result in answer.results}
        assert by_id["links.empty"].outcome is Outcome.FINDINGS
        assert by_id["links.insecure"].outcome is Outcome.CLEAR
        assert by_id["links.slow-one"].outcome is Outcome.RAN_OUT
        assert by_id["links.slow-one"].reason == "took longer than 0.5 s"
        assert answer.unlooked == ["links.slow-one"]

    def test_the_cheap_ones_first(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Six checks that never end take nothing from those that come after them, and one that takes a while has its share."""
        known = registry()

        def endless_find(message: Message, context: Context, options: Options) -> Iterator[Hit]:
            """Loop."""
            while True:
                pass
            yield Hit("never", Place("message"))

        def long_find(message: Message, context: Context, options: Options) -> Iterator[Hit]:
            """Eight tenths of a second of processor time."""
            began = time.process_time()
            while time.process_time() - began < 0.8:
                pass
            yield Hit("found", Place("message"))

        for number in range(6):
            name = f"access.endless-{number}"
            monkeypatch.setitem(
                known,
                name,
                Check(
                    name,
                    "Endless",
                    level=Level.FIX,
                    why="x.",
                    fix="X.",
                    basis="House",
                    samples=(),
                    find=endless_find,
                    options=Options,
                    module="here",
                ),
            )
        late = Check(
            "access.long",
            "Long",
            level=Level.FIX,
            why="x.",
            fix="X.",
            basis="House",
            samples=(),
            find=long_find,
            options=Options,
            module="here",
        )
        monkeypatch.setitem(known, "access.long", late)
        chosen = ["access.long", *(f"access.endless-{number}" for number in range(6)), "links.empty", "wording.placeholder"]
        message = read_bytes(b"<a href='#'>Lorem ipsum dolor sit amet</a>", "a.html")
        budget = Budget(answer_seconds=2.0, all_seconds=12.0, memory=200_000_000)
        answer = review_bounded(message, Context(), chosen, start="fork", budget=budget)
        by_id = {result.check: result.outcome for result in answer.results}
        assert by_id["links.empty"] is by_id["wording.placeholder"] is Outcome.FINDINGS
        assert by_id["access.long"] is Outcome.FINDINGS
        assert answer.unlooked == [f"access.endless-{number}" for number in range(6)]
        assert answer.spam.is_known

    def test_a_message_that_cannot_be_read_in_time(self) -> None:
        """What needs a header or a size alone is answered all the same, though most checks run out."""
        rules = "".join(f"div:has(div ~ div p:nth-child({number}n)) div:has(p) {{ color: red }}\n" for number in range(200))
        page = f"<style>{rules}</style>{'<div><div></div>' * 500}{'<p>Come to the kiln</p>' * 40}"
        message = read_bytes(mail(page, None, Subject="RE: SALE!!", To="a@b.org, c@d.org"), "a.eml")
        asked = ["envelope.recipients-exposed", "envelope.subject-shouting", "text.missing", "sending.size", "sending.mime"]
        asked += [check_id for check_id in registry() if check_id.startswith(("footer.", "wording."))]
        answer = review_bounded(message, Context(), asked, start="fork", budget=Budget(1.0, 8.0, 400_000_000))
        by_id = {result.check: result.outcome for result in answer.results}
        assert by_id["envelope.recipients-exposed"] is by_id["envelope.subject-shouting"] is by_id["text.missing"] is Outcome.FINDINGS
        assert by_id["sending.size"] is by_id["sending.mime"] is Outcome.CLEAR
        assert len(answer.unlooked) > 10

    def test_spam_that_ran_out_is_not_low(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Nothing is said of the sum, in no report."""
        from jetwind.engines.bounded import reviewing

        monkeypatch.setattr(reviewing, "_spam", endless)
        answer = review_bounded(read_bytes(b"<p>x</p>", "a.html"), Context(), ["links.empty"], start="fork", budget=SMALL)
        assert (answer.spam.is_known, answer.spam.in_words) == (False, "not known")
        assert '"score": null' in as_json(answer, {})
        assert "spam risk not known" in as_text(answer)


class TestRewriter:
    """A message rewritten in a helper."""

    @pytest.mark.parametrize("start", STARTS)
    def test_the_same_as_without(self, start: Start) -> None:
        """HTML, changes and pictures of every profile, each picture sent once."""
        message = read_bytes(messages.clean_sale(), "a.eml")
        direct = partial(rewrite, message)
        with Helper(message, REWRITING, start) as helper:
            rewriter = BoundedRewriter(helper)
            for profile in list(profiles().values())[:6]:
                assert rewriter(profile) == direct(profile)
            assert rewriter(profile, only="css-padding") == direct(profile, only="css-padding")
            assert rewriter(profile, spared="css-padding") == direct(profile, spared="css-padding")


class TestLightening:
    """Lighter pictures, made in a helper."""

    @pytest.mark.parametrize("start", STARTS)
    def test_the_same_as_without(self, start: Start) -> None:
        """The same octets, and the same pixels to look at; none of what is no picture."""
        data = pictures.shelf()
        here = lighter(data, 300, 0.9)
        assert here is not None
        assert lighter_bounded([(data, 300), (b"no picture", 300)], 0.9, start=start) == [here, None]
        both = before_and_after_bounded(data, 300, 0.9, start=start)
        assert both == before_and_after(data, here.data, 300)
        assert before_and_after_bounded(b"no picture", 300, 0.9, start=start) is None

    def test_past_the_budget(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Pictures that take longer than they may say so."""
        monkeypatch.setattr(lightening, "_LIGHTENING", Budget(answer_seconds=0.01, all_seconds=0.01, memory=600_000_000))
        with pytest.raises(PastBudget):
            lighter_bounded([(pictures.grainy_studio(), 600)] * 20, 0.99, start="fork")
