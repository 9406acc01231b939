"""Rules of sign-off: places and signatures against a plain model that tries every assignment, one list of what is missing, grounds of a signature."""

import itertools
from datetime import date
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.clearing import (
    SHIPPED,
    Absence,
    Confirming,
    Facts,
    Missing,
    Rule,
    Seen,
    Signature,
    Stations,
    UnusableRule,
    changes,
    digest_of,
    follows_in_order,
    missing,
    open_places,
    rule_of,
    sentences,
    signing_roles,
)

NAMES = {"envelope": "Envelope", "links": "Links", "images": "Images"}
READY = Facts("under-review", looked=frozenset(NAMES))
ROLES = st.sampled_from(["reviewer", "approver", "either"])
SIGNATURES = st.lists(st.frozensets(st.sampled_from(["reviewer", "approver"]), min_size=1).map(Signature), max_size=5)
RULES = st.builds(
    Rule,
    signers=st.lists(ROLES, min_size=1, max_size=4).map(tuple),
    in_order=st.booleans(),
    stations=st.sampled_from(Stations),
    fixes=st.booleans(),
    comments=st.booleans(),
    confirming=st.sampled_from(Confirming),
    seen=st.sampled_from(Seen),
    days=st.none() | st.integers(1, 365),
)


def fits(one: Signature, role: str) -> bool:
    """The plain word for a place that a person may fill."""
    return role == "either" or role in one.roles


def filled_by_trying(rule: Rule, signatures: list[Signature]) -> int:
    """The most places that any assignment of people to places fills: every assignment is tried."""
    places = len(rule.signers)
    padded: list[Signature | None] = [*signatures, *[None] * places]
    return max(
        sum(one is not None and fits(one, role) for one, role in zip(order, rule.signers, strict=True))
        for order in itertools.permutations(padded, places)
    )


class TestPlaces:
    """Which places of a rule the signatures fill."""

    @given(RULES, SIGNATURES)
    def test_against_a_plain_model(self, rule: Rule, signatures: list[Signature]) -> None:
        """At once: as many as any assignment fills. In order: person by person, each the next place or none."""
        still_open = open_places(rule, signatures)
        if not rule.in_order:
            assert len(rule.signers) - len(still_open) == filled_by_trying(rule, signatures)
            return
        waiting = list(rule.signers)
        for one in signatures:
            if waiting and fits(one, waiting[0]):
                waiting.pop(0)
        assert list(still_open) == waiting

    @given(RULES, SIGNATURES, SIGNATURES)
    def test_another_signature_never_opens_a_place(self, rule: Rule, signatures: list[Signature], more: list[Signature]) -> None:
        """More people fill at least as much."""
        assert len(open_places(rule, [*signatures, *more])) <= len(open_places(rule, signatures))

    @given(RULES, SIGNATURES, st.frozensets(st.sampled_from(["reviewer", "approver"]), min_size=1))
    def test_whom_the_order_lets_sign_fills_a_place(self, rule: Rule, signatures: list[Signature], roles: frozenset[str]) -> None:
        """Where a rule has an order, a person whom it does not stop fills the next place, and one whom it stops fills none."""
        before, after = open_places(rule, signatures), open_places(rule, [*signatures, Signature(roles)])
        if rule.in_order and before:
            assert (len(after) < len(before)) == (not follows_in_order(rule, signatures, roles))

    def test_a_person_of_both_roles_fills_one_place(self) -> None:
        """An approver who also reviews does not sign for two, and takes the place that nobody else can."""
        both, reviewer = Signature(frozenset({"reviewer", "approver"})), Signature(frozenset({"reviewer"}))
        assert open_places(Rule(("reviewer", "approver")), [both]) == ("approver",)
        assert open_places(Rule(("reviewer", "approver")), [both, reviewer]) == ()


PEOPLE = st.integers(1, 4)
SOME_DAYS = st.dates(date(2027, 3, 1), date(2027, 3, 9))
ABSENCES = st.lists(st.builds(Absence, PEOPLE, PEOPLE, SOME_DAYS, SOME_DAYS).filter(lambda one: one.away != one.stands_in), max_size=6)
OWN = st.fixed_dictionaries({number: st.frozensets(st.sampled_from(["reviewer", "approver"])) for number in range(1, 5)})


class TestStandIns:
    """Roles that are lent, against a plain model."""

    @given(PEOPLE, OWN, ABSENCES, SOME_DAYS)
    def test_against_a_plain_model(self, person: int, roles: dict[int, frozenset[str]], absences: list[Absence], day: date) -> None:
        """One's own, and those of everybody who is away that day and named this person; in the place of the first who lends something new."""
        today = dict.fromkeys(range(1, 5), day)
        away = [one.away for one in absences if one.stands_in == person and one.since <= day and day <= one.until]
        expected = set(roles[person])
        for colleague in away:
            expected |= roles[colleague]
        found, whom = signing_roles(person, roles, absences, today)
        assert found == expected
        assert whom == next((colleague for colleague in away if roles[colleague] - roles[person]), None)

    def test_days_are_those_of_the_person_away(self) -> None:
        """Where it is another day already."""
        absence = Absence(1, 2, date(2027, 3, 2), date(2027, 3, 4))
        roles = {1: frozenset({"approver"}), 2: frozenset({"reviewer"})}
        assert signing_roles(2, roles, [absence], {1: date(2027, 3, 2), 2: date(2027, 3, 1)})[1] == 1
        assert signing_roles(2, roles, [absence], {1: date(2027, 3, 1), 2: date(2027, 3, 2)})[1] is None


class TestMissing:
    """One list, in the order in which people act."""

    @pytest.mark.parametrize(
        ("changed", "words", "turn"),
        [
            ({}, ["Waits for 2 signatures, 1 of an approver."], "approver"),
            ({"looked": frozenset({"links"})}, ["2 stations were not looked at: Envelope, Images."], "reviewer"),
            ({"looked": frozenset({"links", "images"}), "left_out": frozenset({"envelope"})}, [], "approver"),
            ({"stops": 1, "fixes": 3}, ["1 stop is open."], "reviewer"),
            ({"stops": 2, "looked": frozenset()}, ["2 stops are open.", "No station was looked at."], "reviewer"),
            ({"is_checked": False}, ["The checks have not run yet."], "reviewer"),
            ({"is_checked": False, "is_busy": True}, ["The checks are running."], ""),
            ({"is_stale": True}, ["Circumstances have changed since the checks ran. The checks are run again in the background."], ""),
            ({"unlooked": 2}, ["Not everything was checked: 2 checks did not come to an end."], "reviewer"),
            ({"newer": 4}, ["Revision 4 is newer."], "reviewer"),
            ({"stage": "sent-back"}, ["It was sent back; its author brings a new revision."], "author"),
            ({"signatures": (Signature(frozenset({"approver"})),)}, ["Waits for the signature of a reviewer or approver."], "approver"),
            (
                {"signatures": (Signature(frozenset({"reviewer"}), "the comment at Links is settled"),)},
                ["A signature counts once the comment at Links is settled."],
                "reviewer",
            ),
        ],
    )  # fmt: skip
    def test_by_the_usual_rule(self, changed: dict[str, Any], words: list[str], turn: str) -> None:
        """What comes first says whose turn it is; signatures come last."""
        found = missing(Rule(), Facts(**({"stage": "under-review", "looked": frozenset(NAMES)} | changed)), NAMES)
        assert [one.words for one in found][: len(words)] == words
        assert found[0].turn == turn

    def test_nothing_where_enough_signed_or_released(self) -> None:
        """A condition of somebody who is not needed holds nothing."""
        signed = (Signature(frozenset({"reviewer"})), Signature(frozenset({"approver"})), Signature(frozenset({"reviewer"}), "it is done"))
        assert missing(Rule(), Facts("cleared", looked=frozenset(NAMES), signatures=signed), NAMES) == ()
        assert missing(Rule(), Facts("released", stops=3), NAMES) == ()

    def test_by_the_strict_rule(self) -> None:
        """Each of its demands is told."""
        facts = Facts("under-review", fixes=1, comments=2, looked=frozenset({"links"}), left_out=frozenset({"images"}), unconfirmed=1)
        assert [one.words for one in missing(SHIPPED["strict"], facts, NAMES)] == [
            "1 fix is open.",
            "2 comments are open.",
            "2 stations were not looked at: Envelope, Images.",
            "1 excuse waits for a second person to confirm.",
            "Nobody has found a test copy right on a phone.",
            "Waits for signatures: a reviewer, then a reviewer or approver, then an approver.",
        ]

    def test_whose_excuses_are_confirmed(self) -> None:
        """Nobody's, those that no approver made, everybody's."""
        facts = Facts("under-review", looked=frozenset(NAMES), unconfirmed=3, unconfirmed_of_reviewers=2)
        said = [missing(Rule(confirming=one), facts, NAMES)[0].words for one in Confirming]
        assert said[1:] == ["2 excuses wait for a second person to confirm.", "3 excuses wait for a second person to confirm."]
        assert "signatures" in said[0]

    @given(RULES, SIGNATURES)
    def test_signatures_hold_nobody(self, rule: Rule, signatures: list[Signature]) -> None:
        """A signature that is missing keeps nobody from signing, and everything else does where it is said to."""
        facts = Facts("under-review", looked=frozenset(NAMES), is_seen=True, is_seen_on_phone=True, signatures=tuple(signatures))
        found = missing(rule, facts, NAMES)
        assert not [one for one in found if one.holds]
        assert bool(found) == bool(open_places(rule, signatures))
        assert all(isinstance(one, Missing) and one.words.endswith(".") for one in found)


class TestRule:
    """As data and as sentences."""

    @given(RULES)
    def test_there_and_back(self, rule: Rule) -> None:
        """A rule comes back from its table, and each of its sentences is one."""
        assert Rule.from_table(rule.as_table()) == rule
        assert all((said.endswith(".") and said[0].isupper()) or said[0].isdigit() for said in sentences(rule))

    def test_what_holds_for_a_kind(self) -> None:
        """Its own, that of every kind, the usual one."""
        kept: dict[str, object] = {"every": {"signers": ["approver"]}, "transactional": {"days": 3}}
        assert rule_of(kept, "transactional").days == 3
        assert rule_of(kept, "promotional").signers == ("approver",)
        assert rule_of({}, "promotional") == Rule()

    @pytest.mark.parametrize(
        ("table", "words"),
        [
            ({"signers": []}, "1 to 9 signatures"),
            ({"signers": ["owner"]}, "“signers”"),
            ({"signers": "approver"}, "1 to 9"),
            ({"days": 0}, "1 to 365 days"),
            ({"days": True}, "1 to 365 days"),
            ({"fixes": "yes"}, "“fixes”"),
            ({"stations": "some"}, "“stations”"),
            ({"colour": "red"}, "no entry “colour”"),
        ],
    )
    def test_unusable(self, table: dict[str, object], words: str) -> None:
        """Refused by the name of the entry."""
        with pytest.raises(UnusableRule, match=words):
            Rule.from_table(table)

    def test_what_ships(self) -> None:
        """The usual rule and the strict one, as people read them."""
        assert sentences(SHIPPED["usual"])[:3] == (
            "2 people sign, in any order, 1 of them an approver.",
            "Nobody signs a message of which they uploaded a revision, and nobody signs twice.",
            "A reviewer has looked at each station, or has left it out with a reason.",
        )
        assert (
            sentences(SHIPPED["strict"])[0]
            == "3 people sign, one after another: a reviewer, then a reviewer or approver, then an approver."
        )
        assert sentences(SHIPPED["strict"])[-1] == "A signature holds for 7 days, as long as nothing changes."


class TestResting:
    """What a signature rests on, and what of it has changed."""

    BEFORE = {
        "content": {"revision 1": "aa"},
        "fields": {"field list": "name town"},
        "excuses": {"e1": "No text – decoration (Una)"},
        "findings": {"f1": "fix: Something."},
        "checks": {"links.dead": "1", "images.heavy": "1"},
        "test sends": {"copy 1": "The copy to a@kiln.org was refused."},
        "set": {"d1": "The sender is “A”; the model has “B”."},
    }

    def after(self, part: str, **values: str | None) -> dict[str, dict[str, str]]:
        """The grounds with some values of a part set otherwise, or taken out."""
        own = {**self.BEFORE[part], **values}
        return {**self.BEFORE, part: {name: value for name, value in own.items() if value is not None}}

    def test_nothing(self) -> None:
        """The same, and what is gone of findings and troubles."""
        assert changes(self.BEFORE, self.BEFORE) == ()
        assert changes(self.BEFORE, self.after("findings", f1=None)) == ()
        assert changes(self.BEFORE, {**self.BEFORE, "test sends": {}}) == ()
        assert digest_of(self.BEFORE) == digest_of(dict(reversed(self.BEFORE.items())))

    @pytest.mark.parametrize(
        ("part", "values", "said"),
        [
            ("content", {"revision 1": "bb"}, "Changed in content: revision 1 was “aa” and is “bb”."),
            ("fields", {"field list": "name"}, "Changed in fields: field list was “name town” and is “name”."),
            ("excuses", {"e1": None}, "Excuse lifted: No text – decoration (Una)"),
            ("excuses", {"e2": "Old price – agreed (Bo)"}, "Excused since: Old price – agreed (Bo)"),
            ("excuses", {"e1": "No text – else (Bo)"}, "Excused otherwise: No text – else (Bo)"),
            ("findings", {"f2": "stop: A link is dead."}, "Found since: stop: A link is dead."),
            ("checks", {"links.dead": "2"}, "1 check has another version: links.dead."),
            ("checks", {"links.dead": None, "x.y": "1"}, "2 checks have another version: links.dead, x.y."),
            ("test sends", {"copy 2": "It came back."}, "Told by a test send since: It came back."),
            ("set", {"d2": "The footer is old."}, "Differs from the model of its set since: The footer is old."),
        ],
    )
    def test_what_voids(self, part: str, values: dict[str, str | None], said: str) -> None:
        """Each change is told by what it is."""
        assert changes(self.BEFORE, self.after(part, **values)) == (said,)
        assert digest_of(self.BEFORE) != digest_of(self.after(part, **values))

    def test_a_difference_kept_by_its_sentence(self) -> None:
        """Signatures that were given before differences had digests keep what they knew; a further difference voids them."""
        earlier = {**self.BEFORE, "set": {"The sender is “A”; the model has “B”.": "sender"}}
        assert changes(earlier, self.BEFORE) == ()
        now = self.after("set", d2="The footer is old.")
        assert changes(earlier, now) == ("Differs from the model of its set since: The footer is old.",)

    def test_an_excuse_that_the_condition_expects(self) -> None:
        """It voids nothing, while another does."""
        assert changes(self.BEFORE, self.after("excuses", e2="As agreed"), settled={"e2"}) == ()
        assert changes(self.BEFORE, self.after("excuses", e2="As agreed", e3="Else"), settled={"e2"}) == ("Excused since: Else",)
