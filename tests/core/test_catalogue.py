"""The whole registry: every sample of every check, and the contract that ids are."""

import ast
import dataclasses
import importlib
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from jetwind.cli.docs import IDS, listed_ids, stale
from jetwind.core.checking import (
    Check,
    CheckSample,
    Context,
    Level,
    Options,
    Outcome,
    UnusableSetting,
    check,
    check_settings,
    clear,
    finds,
    options_of,
    registry,
    run_check,
)
from jetwind.core.checking.declaration import MESSAGE_LIMIT, NAME_LIMIT, DeclarationError
from jetwind.core.message import Message
from jetwind.engines.dictionaries import Installed

SAMPLES = [
    pytest.param(declared, sample, id=f"{declared.id}-{number}")
    for declared in registry().values()
    for number, sample in enumerate(declared.samples)
]


def source_of(message: Message, part: str) -> str:
    """The decoded source that places of a part point into."""
    return {
        "html": message.html.text if message.html else "",
        "text": message.text.text if message.text else "",
        "header": message.header_source.text,
        "message": message.raw_source.text,
    }.get(part, "")


class TestSamples:
    """Each check fires where it must, at the very characters, and leaves the rest alone."""

    @pytest.mark.parametrize(("declared", "sample"), SAMPLES)
    def test_sample(self, declared: Check, sample: CheckSample) -> None:
        """Fires or not, and where."""
        message = sample.message()
        result = run_check(declared, message, replace(sample.context(), dictionaries=Installed()))
        assert result.outcome is not Outcome.CRASHED, result.reason
        assert bool(result.findings) is sample.fires
        covered = []
        for finding in result.findings:
            for place in finding.places:
                source = source_of(message, place.part)
                if place.start and place.end:
                    assert 0 <= place.start.offset <= place.end.offset <= len(source)
                    covered.append(source[place.start.offset : place.end.offset])
            assert len(finding.template) <= MESSAGE_LIMIT
            assert finding.message
        if sample.at is not None:
            assert sample.at in covered


def reworked(source: str) -> list[str]:
    """Samples in a module of checks that are changed on their way: by a method other than ``format``, by cutting, by a comprehension."""
    found: list[str] = []
    for decorator in (one for node in ast.walk(ast.parse(source)) if isinstance(node, ast.FunctionDef) for one in node.decorator_list):
        if not isinstance(decorator, ast.Call):
            continue
        for keyword in decorator.keywords:
            if keyword.arg != "samples":
                continue
            for node in ast.walk(keyword.value):
                is_method = (
                    isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr not in ("format", "encode")
                )
                if is_method or isinstance(node, (ast.Subscript, ast.ListComp, ast.GeneratorExp, ast.IfExp)):
                    found.append(ast.unparse(node)[:80])
    return found


#: Whole sentences that are cut short to be an older wording of themselves, and values that are no samples' words.
REWORKED_RIGHTLY = {"_LONG[:40]", "_LONG[41:]"}


class TestDeclarations:
    """What every declaration owes."""

    def test_ids_are_a_contract(self) -> None:
        """The list grows with the checks, and no id goes out of it unseen."""
        listed = IDS.read_text("utf-8")
        assert listed.split() == sorted(registry())
        assert listed_ids("links.empty\n") == listed
        with pytest.raises(ValueError, match="links\\.gone: the id is in use"):
            listed_ids("links.empty\nlinks.gone\n")

    def test_every_option_is_explained(self) -> None:
        """What it is and which values it takes: on its page, in --explain, in the settings."""
        unexplained = [(known.id, option.name) for known in registry().values() for option in options_of(known.options) if not option.note]
        assert unexplained == []

    @pytest.mark.parametrize(
        ("check_id", "option", "value"),
        [("text.out-of-sync", "least_share", 1.5), ("appearance.clipped", "warn_percent", 101), ("images.heavy", "largest_octets", -1)],
    )
    def test_values_out_of_range(self, check_id: str, option: str, value: float) -> None:
        """Refused with the range."""
        with pytest.raises(UnusableSetting, match=r"is 0 (to 1|to 100 per cent|or more [a-z]+), not"):
            check_settings(registry()[check_id], {check_id: {option: value}})

    @pytest.mark.parametrize("declared", registry().values(), ids=lambda declared: declared.id)
    def test_texts(self, declared: Check) -> None:
        """Name without full stop, sentences with one, a fix that starts with a verb, a basis that says where it comes from."""
        assert len(declared.name) <= NAME_LIMIT
        assert declared.rule.endswith(".")
        assert declared.why.endswith(".")
        assert declared.fix.endswith((".", "”."))
        assert declared.fix[0].isupper()
        assert "error" not in declared.why.lower().split()
        assert any(
            word in declared.basis
            for word in (
                "Common practice, no published source",
                "RFC",
                "WCAG",
                "HTML",
                "U.S.C.",
                "House",
                "CSS",
                "Unicode",
                "BCP",
                "ISO 8601",
                "IANA",
                "Exif",
                "Decoded by",
                "Measured",
                "dictionary",
                "support dataset",
            )
        )
        assert f".{declared.id.split('.')[0]}" in f".{declared.module}"

    @pytest.mark.parametrize("declared", registry().values(), ids=lambda declared: declared.id)
    def test_options_are_plain_with_defaults(self, declared: Check) -> None:
        """Numbers, words or switches, frozen."""
        options = declared.options()
        for option in dataclasses.fields(options):
            assert isinstance(getattr(options, option.name), (int, float, str, bool))
            with pytest.raises(dataclasses.FrozenInstanceError):
                setattr(options, option.name, None)

    @pytest.mark.parametrize("module", sorted({declared.module for declared in registry().values()}))
    def test_samples_stand_as_a_reader_would_meet_them(self, module: str) -> None:
        """No sample is replaced, cut or computed on its way into the test: what is written is what is checked."""
        path = importlib.import_module(module).__file__
        assert path is not None
        assert [piece for piece in reworked(Path(path).read_text("utf-8")) if piece not in REWORKED_RIGHTLY] == []

    def test_docs_are_current(self) -> None:
        """docs/checks/ is what the registry says."""
        assert stale() == []

    @pytest.mark.parametrize(
        ("changes", "said"),
        [
            ({"id": "links.empty"}, "declared twice"),
            ({"id": "nowhere.new-check"}, "its place is"),
            ({"name": "x" * 60}, "at most"),
            ({"samples": [clear("<p>x</p>")]}, "a sample that fires"),
        ],
    )
    def test_a_wrong_declaration_fails_at_import(self, changes: dict[str, Any], said: str) -> None:
        """Never noticed later than that."""

        def find(message: Message, context: Context, options: Options) -> Any:
            """A rule."""
            yield from ()

        find.__module__ = "jetwind.core.checks.links.made_up"
        declaration: dict[str, Any] = {
            "id": "links.made-up",
            "name": "Made up",
            "level": Level.NOTE,
            "why": "x.",
            "fix": "X.",
            "basis": "House",
            "samples": [clear("<p>"), finds("<p>")],
        }
        with pytest.raises(DeclarationError, match=said):
            check(**{**declaration, **changes})(find)


class TestPurity:
    """The core stands alone."""

    def test_core_loads_without_django_or_network_code(self) -> None:
        """A review imports no framework, no database, no network."""
        code = (
            "import sys; from jetwind.core.reports import review; from jetwind.core.message import read_bytes; from jetwind.core.checking import Context;"
            "review(read_bytes(b'<p>x</p>', 'a.html'), Context());"
            "bad = [name for name in ('django', 'psycopg', 'procrastinate', 'playwright', 'aiosmtpd', 'smtplib') if name in sys.modules]; sys.exit(str(bad) if bad else 0)"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False, env={"PYTHONPATH": "src"})
        assert done.returncode == 0, done.stderr


class TestSettings:
    """The house's own levels and thresholds."""

    def test_level_and_option_are_taken(self) -> None:
        """A changed level and threshold count."""
        level, options = check_settings(registry()["images.heavy"], {"images.heavy": {"level": "note", "largest_octets": 10}})
        assert (level, options.largest_octets) == ("note", 10)  # type: ignore[attr-defined]

    @pytest.mark.parametrize(
        ("wrong", "said"),
        [
            ({"level": "loud"}, "level is stop, fix, note or off"),
            ({"largest": 1}, "has no option 'largest'"),
            ({"largest_octets": "many"}, "“largest_octets” is a whole number, not 'many'"),
            ({"largest_octets": True}, "“largest_octets” is a whole number, not True"),
        ],
    )
    def test_wrong_settings_are_named(self, wrong: dict[str, Any], said: str) -> None:
        """The check, the setting and the remedy."""
        with pytest.raises(UnusableSetting, match=said):
            check_settings(registry()["images.heavy"], {"images.heavy": wrong})
