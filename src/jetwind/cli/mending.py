"""The mended copy of a message: what a machine can put right is put right, proven, and written as a file or a patch."""

from __future__ import annotations

import os
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from jetwind.cli.telling import KINDS, one_line, refuse, stage, write_out

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from jetwind.core.checking import CheckResult, Context
    from jetwind.core.fields import Syntax
    from jetwind.core.mending import Before, Mended, Offer, Withheld
    from jetwind.core.message import Message
    from jetwind.core.reports import Fix, Review

#: Mends that are listed one by one.
_MOST_LISTED = 200


@click.command("mend")
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(path_type=Path), help="Write the mended message to this file.")
@click.option("--diff", is_flag=True, help="Print the mends as a patch, which git apply takes.")
@click.option("--sarif", is_flag=True, help="Print the findings as SARIF with the mends as fixes, which editors apply.")
@click.option("--in-place", is_flag=True, help="Write the mended message over PATH.")
@click.option(
    "--only", multiple=True, help="Mend what these checks find, and nothing else; they are named, so nothing has to be confirmed."
)
@click.option("--sure", "is_sure", is_flag=True, help="Take the sure mends only; so it is without --all.")
@click.option("--all", "is_all", is_flag=True, help="Take the mends that change the look or the words, too.")
@click.option(
    "--fill",
    type=click.Path(path_type=Path),
    help='Words for mends that need one: TOML with a line for each check, such as "access.lang-missing" = "en".',
)
@click.option("--render", is_flag=True, help="Mend what only renders show, too; each mend is proven on renders of the mended message.")
@click.option("--profiles", help="Client profiles for --render, parted by commas, or all; default those of most readers.")
@click.option("--kind", type=click.Choice(KINDS), default="promotional", help="What the message is for.")
@click.option("--planned", help="Planned time, such as 2027-03-09T09:00+01:00; default now.")
@click.option("--readers", type=click.Path(path_type=Path), help="Sample readers: CSV with a column for each field, vCard or JSON.")
@click.option("--syntax", type=click.Path(path_type=Path), help="How fields are written, if not as in Liquid: TOML.")
@click.option("--brief", type=click.Path(path_type=Path), help="Required and forbidden wording and more: TOML.")
def mend(
    path: Path,
    out: Path | None,
    diff: bool,
    sarif: bool,
    in_place: bool,
    only: tuple[str, ...],
    is_sure: bool,
    is_all: bool,
    fill: Path | None,
    render: bool,
    profiles: str | None,
    kind: str,
    planned: str | None,
    readers: Path | None,
    syntax: Path | None,
    brief: Path | None,
) -> None:
    """Mend the message at PATH, an .eml or an .html: list what can be put right, or write it.

    Every mend is proven first: with it, its finding is gone and no check finds more. Exit status 0: no stop is left; 1: at least one stop is left, or not
    everything was checked; 2: the input or an option could not be used; 3: Jetwind itself failed.
    """
    if (out is not None) + diff + sarif + in_place > 1:
        refuse("--out, --diff, --sarif and --in-place are four ways to write; choose one of them.")
    if is_sure and is_all:
        refuse("--sure and --all exclude each other.")
    from jetwind.cli.inputs import brief_in, checks_named, circumstances, message_at, octets_at, profiles_named, syntax_in, words_in
    from jetwind.core.mending import Before, as_patches, files_of, mended, offers_of
    from jetwind.core.reports import as_sarif
    from jetwind.engines.bounded import review_bounded

    details, written = brief_in(brief), syntax_in(syntax)
    chosen, words = checks_named(list(only)), words_in(fill)
    if profiles is not None and not render:
        refuse("--profiles is used with --render.")
    ids = profiles_named(profiles) if profiles is not None else []
    with stage(f"reading “{path}”"):
        raw = octets_at(path)
        message = details.on(message_at(path, written))
    if sarif and message.form == "package":
        refuse("A zip has no places for fixes, since its files are packed; unpack it, or use --out or --diff.")

    def read(octets: bytes) -> Message:
        return details.on(read_like(message, octets, path.name, written))

    context = circumstances(details, kind, planned=planned, readers=readers, previous=None, rulebook=())

    def judge(one: Message) -> Review:
        return review_bounded(one, _seen(one, context, ids) if render else context, start="fork")

    if render:
        with stage("rendering"):
            context = _seen(message, context, ids)
    with stage("running the checks"):
        found = review_bounded(message, context, start="fork")
    with stage("mending"):
        offers, withheld = offers_of(message, context, found.results, words)
        wanted = [one for one in offers if one.changes and _is_wanted(one, chosen, is_all=is_all)]
        before = Before(message, raw, found.results, read, lambda after: judge(after).results)
        done = mended(before, wanted)
    with stage("writing"):
        said = _told(message, done, [one for one in offers if one not in wanted], withheld)
        if diff or sarif:
            click.echo(said, err=True, nl=False)
            before_it, after_it = files_of(message, raw, path.name), files_of(done.message, done.octets, path.name)
            write_out(as_patches(before_it, after_it) if diff else as_sarif(found, path.as_posix(), _fixes(before, done)) + "\n")
        else:
            if out is not None or in_place:
                _replace(out or path, done.octets)
            write_out(said)
    unlooked = any(answer.outcome.is_unlooked for answer in done.results)
    has_stop = any(finding.level == "stop" for answer in done.results for finding in answer.findings)
    raise click.exceptions.Exit(1 if has_stop or unlooked else 0)


def _seen(message: Message, context: Context, ids: list[str]) -> Context:
    """The circumstances with the message rendered in these profiles, or in the usual ones."""
    from jetwind.cli.rendering import renders_of
    from jetwind.core.profiles import usual

    return replace(context, renders=renders_of(message, ids or usual(), None))


def proven_fixes(found: Review, context: Context, path: Path, read: Callable[[bytes], Message]) -> dict[str, Fix]:
    """The mends that need no word and that the checks prove, as fixes by the finding's fingerprint; none for a folder and for a zip.

    What only renders show has no fix here: only another render would prove it.
    """
    from jetwind.core.mending import Before, mended, offers_of
    from jetwind.engines.bounded import review_bounded
    from jetwind.engines.bounded.mending import kinds_bounded

    # A message whose mends cannot be found within the budget of a helper is not read here.
    if found.message.form == "package" or not path.is_file() or not kinds_bounded(found, context, start="fork"):
        return {}
    from jetwind.cli.inputs import octets_at

    unseen = replace(context, renders=None)
    asked = [answer.check for answer in found.results]

    def judge(one: Message) -> Sequence[CheckResult]:
        return review_bounded(one, unseen, asked, start="fork").results

    offers = [one for one in offers_of(found.message, context, found.results)[0] if one.changes and not one.is_measured]
    if not offers:
        return {}
    results = tuple(judge(found.message)) if context.renders is not None else found.results
    before = Before(found.message, octets_at(path), results, read, judge)
    return _fixes(before, mended(before, offers))


def read_like(message: Message, octets: bytes, name: str, syntax: Syntax) -> Message:
    """Changed octets, read as a message was, with the pictures that stand beside it or were fetched for it."""
    from jetwind.core.message import read_bytes

    after = replace(read_bytes(octets, name, syntax=syntax), fetched=message.fetched)
    # Pictures beside an HTML file are no part of its octets.
    return replace(after, images=message.images) if message.form == "html" else after


def _fixes(before: Before, done: Mended) -> dict[str, Fix]:
    """Mends as fixes by the finding's fingerprint: by characters in an HTML file, by octets in a mail, whose parts are written in other ways.

    Where several mends are one stretch of octets, as in base64, the first finding has them all: no two fixes overlap.
    """
    from jetwind.core.mending import pieces_of
    from jetwind.core.reports import Fix, Replacement

    pieces = (
        []
        if before.message.form == "html"
        else pieces_of(before.message, before.octets, [one for own in done.taken for one in own.changes])
    )
    fixes = {}
    for one in done.taken:
        if before.message.form == "html":
            replaced = [Replacement(change.span.start, change.span.end - change.span.start, change.text) for change in one.changes]
        else:
            mine = [piece for changes, piece in pieces if changes[0] in one.changes]
            replaced = [Replacement(piece.span.start, piece.span.end - piece.span.start, piece.octets) for piece in mine]
        if replaced:
            fixes[one.finding] = Fix(one.does, tuple(replaced))
    return fixes


def _is_wanted(offer: Offer, chosen: list[str] | None, *, is_all: bool) -> bool:
    """Whether a mend is made: a word that was given says so, too."""
    if chosen is not None:
        return offer.check in chosen
    return is_all or offer.kind != "to confirm"


def _told(message: Message, done: Mended, left: list[Offer], withheld: list[Withheld]) -> str:
    """The mends that were made, those that wait for a word, and those that are withheld, with the reasons."""
    lines = [f"{_counted(len(done.taken), 'finding is', 'findings are')} mended."]
    for one in done.taken[:_MOST_LISTED]:
        lines += [f"  {one.check}: {one_line(one.sentence)}", f"      → {one.does} {_where(message, one)}"]
    ready = [one for one in left if one.changes]
    if ready:
        said = "after a look; --all or --only takes them" if any(one.kind == "to confirm" for one in ready) else "too, without --only"
        lines.append(f"{_counted(len(ready), 'more finding', 'more findings')} can be mended {said}.")
        lines += [f"  {one.check} ({one.kind.value}): {one_line(one.sentence)}" for one in ready[:_MOST_LISTED]]
    if asked := [one for one in left if not one.changes]:
        lines.append(f"{_counted(len(asked), 'finding', 'findings')} can be mended with a word, which --fill gives.")
        for one in asked[:_MOST_LISTED]:
            suggested = f" Such as: {one_line(' · '.join(one.suggested))}" if one.suggested else ""
            lines += [f"  {one.check}: {one_line(one.sentence)}", f"      ← {one.asks}.{suggested}"]
    if refused := [*done.withheld, *withheld]:
        lines.append(f"{_counted(len(refused), 'mend is', 'mends are')} withheld.")
        lines += [f"  {one.check}: {one_line(one.sentence)} {one.why}" for one in refused[:_MOST_LISTED]]
    return "\n".join(lines) + "\n"


def _counted(number: int, one: str, many: str) -> str:
    return f"{number:,} {one if number == 1 else many}"


def _where(message: Message, offer: Offer) -> str:
    lines: dict[str, list[int]] = {}
    for change in offer.changes:
        source = message.source_of(change.part)
        if source is not None:
            lines.setdefault(change.part, []).append(source.position(change.span.start).line)
    named = (f"{part} {', '.join(str(line) for line in sorted(set(own))[:8])}" for part, own in lines.items())
    return f"({'; '.join(f'line of {words}' for words in named)})"


def _replace(path: Path, octets: bytes) -> None:
    """Write a file whole or not at all: the old one stays until the new one is on the disk."""
    try:
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~_umask()
        with tempfile.NamedTemporaryFile(dir=path.parent, prefix=f".{path.name}.", delete=False) as file:
            written = Path(file.name)
            try:
                file.write(octets)
                file.flush()
                os.fsync(file.fileno())
                written.chmod(mode)
                written.replace(path)
            except BaseException:
                written.unlink()
                raise
    except OSError as failure:
        refuse(f"“{path}” cannot be written: {failure.strerror}.")


def _umask() -> int:
    now = os.umask(0)
    os.umask(now)
    return now
