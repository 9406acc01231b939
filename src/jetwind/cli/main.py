"""The commands and their options."""

from __future__ import annotations

import errno
import json
import os
import sys
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

import click

from jetwind import __version__
from jetwind.cli.mending import mend, proven_fixes, read_like
from jetwind.cli.telling import KINDS, at_stage, one_line, refuse, stage, write_out
from jetwind.cli.verifying import verify, verify_log

if TYPE_CHECKING:
    from jetwind.cli.live import Live
    from jetwind.core.checking import Context
    from jetwind.core.message import Message, Sample
    from jetwind.core.reports import Fix
    from jetwind.core.reports.review import Review
    from jetwind.engines.names import Zone


@click.group(no_args_is_help=False)
def app() -> None:
    """Check a message, render it in simulated mail clients, and list the facts about these clients."""


def _file(name: str, help: str) -> Callable[[Any], Any]:
    """An option that takes the path of a file."""
    return click.option(name, type=click.Path(path_type=Path), help=help)


@app.command()
@click.argument("path", required=False, type=click.Path(path_type=Path))
@click.option("--format", type=click.Choice(["text", "json", "sarif", "csv", "html"]), default="text", help="Form of the report.")
@click.option("--kind", type=click.Choice(KINDS), default="promotional", help="What the message is for.")
@click.option("--planned", help="Planned time, such as 2027-03-09T09:00+01:00; default now.")
@_file("--readers", "Sample readers: CSV with a column for each field, vCard or JSON.")
@click.option("--reader", help="Show and measure the message as this reader of --readers; default the one with the longest copy.")
@_file("--syntax", "How fields are written, if not as in Liquid: TOML.")
@_file("--previous", "The message it was copied from.")
@_file("--brief", "Required and forbidden wording and more: TOML.")
@click.option("--rulebook", multiple=True, help="Which laws apply, by name; or a rulebook of your own in a TOML file.")
@_file("--zone", "Name records in master-file format instead of DNS.")
@click.option("--sending-host", help="IP address of the sending host.")
@click.option("--live", is_flag=True, help="Fetch links and remote images.")
@click.option("--read-pictures", is_flag=True, help="Read the words in pictures with tesseract, where it is installed.")
@click.option("--parameters", help="Campaign parameters that links need, such as campaign=spring,medium; default those of the brief.")
@click.option("--render", is_flag=True, help="Also run the checks that need the browser.")
@click.option("--profiles", help="Client profiles for --render, parted by commas, or all; default those of most readers.")
@click.option("--only", multiple=True, help="Run these checks only.")
@click.option("--explain", help="What a check is about.")
def check(
    path: Path | None,
    format: str,
    kind: str,
    planned: str | None,
    readers: Path | None,
    reader: str | None,
    syntax: Path | None,
    previous: Path | None,
    brief: Path | None,
    rulebook: tuple[str, ...],
    zone: Path | None,
    sending_host: str | None,
    live: bool,
    read_pictures: bool,
    parameters: str | None,
    render: bool,
    profiles: str | None,
    only: tuple[str, ...],
    explain: str | None,
) -> None:
    """Check the message at PATH: an .eml, an .html, a folder or a zip with one .html and its images.

    Exit status 0: no stop; 1: at least one stop, or not everything was checked; 2: the input or an option could not be used; 3: Jetwind itself failed, and one line
    says at which check or stage; what could be found is printed all the same.
    """
    if explain is not None:
        click.echo(_explained(explain.strip()), nl=False)
        return
    from jetwind.cli.inputs import address_of_host, brief_in, checks_named, circumstances, message_at, profiles_named, syntax_in, zone_in
    from jetwind.engines.bounded import review_bounded

    if path is None:
        refuse("check needs a PATH: an .eml, an .html, a folder or a zip.")
    with stage(f"reading “{path}”"):
        message = message_at(path, syntax_in(syntax))
    details = brief_in(brief).asking(parameters)
    message = details.on(message)
    as_whom = _reader_of(message, readers, reader) if reader is not None or render else None
    context = circumstances(details, kind, planned=planned, readers=readers, previous=previous, rulebook=rulebook)
    chosen = checks_named(list(only))
    ids = profiles_named(profiles) if profiles is not None else []
    host = address_of_host(sending_host) if sending_host is not None else ""
    records = zone_in(zone)
    opened = _opened(message, context, lands=render) if live else None
    if opened is not None:
        message, context = opened.message, replace(context, answers=opened.answers)
    context = _with_papers(message, context, records, host, live=live)
    if read_pictures:
        context = _with_words(message, context)
    if render:
        context = _with_renders(message, context, ids, as_whom)
    elif ids:
        click.echo("jetwind: --profiles is used with --render; without it no check needs a profile.", err=True)
    with stage("running the checks"):
        result = review_bounded(message, context, chosen, start="fork")
    fixes: Mapping[str, Fix] = {}
    if format == "sarif":
        with stage("mending"):
            fixes = proven_fixes(
                result, context, path, lambda octets: details.on(read_like(result.message, octets, path.name, result.message.syntax))
            )
    with stage("writing the report"):
        around = (_as_read_by(message, as_whom) if reader is not None else "", opened.as_text() if opened is not None else "")
        before, after = around if format == "text" else ("", "")
        write_out(before + _report(result, format, path, context=context, fixes=fixes) + after)
    _end(result)


def _opened(message: Message, context: Context, *, lands: bool) -> Live:
    """The message with its pictures from elsewhere, and what its links answered."""
    from jetwind.cli.live import live

    with stage("opening links"):
        return live(message, context.readers, lands=lands)


def _with_papers(message: Message, context: Context, records: Zone | None, host: str, *, live: bool) -> Context:
    """The circumstances with what name records say of the sender, where a file or the DNS may be asked."""
    if records is None and not live:
        if host:
            click.echo("jetwind: --sending-host is used with --zone or --live; without them no name records are asked.", err=True)
        return context
    from jetwind.cli.live import fetcher
    from jetwind.core.papers import Signing
    from jetwind.engines.names import Dns, loading, papers_of

    with stage("asking for name records"):
        papers = papers_of(message, records or Dns(), Signing(host=host), loading(fetcher) if live else None)
    return replace(context, papers=papers)


def _with_words(message: Message, context: Context) -> Context:
    """The circumstances with the words that stand in the message's pictures."""
    from jetwind.core.images.collecting import pictures_of
    from jetwind.core.images.words import PictureWords
    from jetwind.engines.picture_words import installed, read_each, to_read

    reader = installed("fork")
    if reader is None:
        return replace(context, picture_words=PictureWords())
    with stage("reading pictures"):
        words = dict(read_each(to_read(pictures_of(message, {}, context.readers), ()), reader))
    return replace(context, picture_words=PictureWords(words, reader.name))


def _as_read_by(message: Message, reader: Sample | None) -> str:
    """The inbox row of a reader and the copy that they get, ahead of the findings."""
    if reader is None:
        return ""
    from jetwind.core.prose.reading import reading_of
    from jetwind.core.readers import as_reader

    merged = as_reader(message, reader).message
    reading = reading_of(merged)
    lines = [f"As {reader.name} gets it", f"Subject: {one_line(merged.subject)}", f"Preview text: {one_line(reading.preview_text)}", ""]
    copy = reading.visible_text if merged.html is not None else merged.text.seen if merged.text is not None else ""
    lines += ["    " + "".join(char if char.isprintable() else " " for char in line) for line in copy.splitlines()]
    return "\n".join(lines) + "\n\n"


def _with_renders(message: Message, context: Context, ids: list[str], reader: Sample | None) -> Context:
    """The circumstances with the message rendered in these profiles, or in the usual ones, as a reader gets it."""
    from jetwind.cli.rendering import renders_of
    from jetwind.core.profiles import usual

    with stage("rendering"):
        return replace(context, renders=renders_of(message, ids or usual(), reader))


def _end(result: Review) -> NoReturn:
    """Leave with the exit status that the answers ask for."""
    from jetwind.core.checking import Outcome

    if crashed := [answer for answer in result.results if answer.outcome is Outcome.CRASHED]:
        at = ", ".join(answer.check for answer in crashed)
        click.echo(f"jetwind: failed at {at}: {one_line(crashed[0].reason)}", err=True)
        raise click.exceptions.Exit(3)
    if result.unlooked:
        click.echo(f"jetwind: not everything was checked: {', '.join(result.unlooked)} ran out of time or memory", err=True)
    raise click.exceptions.Exit(1 if result.has_stop or result.unlooked else 0)


def _report(result: Review, format: str, path: Path, *, context: Context, fixes: Mapping[str, Fix]) -> str:
    from jetwind.core.reports import as_csv, as_html, as_json, as_sarif, as_text

    if format == "json":
        from jetwind.engines.bounded.mending import kinds_bounded

        return as_json(result, kinds_bounded(result, context, start="fork")) + "\n"
    if format == "sarif":
        return as_sarif(result, path.as_posix(), fixes) + "\n"
    if format == "html":
        return as_html(result)
    return as_csv(result.findings) if format == "csv" else as_text(result, context.rulebooks, context.house)


@app.command()
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the pictures and render.json.")
@click.option("--profiles", default="all", help="Client profiles, parted by commas, or all.")
@click.option("--images", type=click.Choice(["on", "off"]), default="on", help="Show pictures or block them.")
@click.option("--dark", is_flag=True, help="Ask for the dark colour scheme.")
@_file("--readers", "Sample readers: CSV with a column for each field, vCard or JSON.")
@click.option("--reader", help="Render the message as this reader of --readers; default the one with the longest copy.")
@_file("--syntax", "How fields are written, if not as in Liquid: TOML.")
@click.option("--live", is_flag=True, help="Fetch remote images.")
def render(
    path: Path,
    out: Path,
    profiles: str,
    images: str,
    dark: bool,
    readers: Path | None,
    reader: str | None,
    syntax: Path | None,
    live: bool,
) -> None:
    """Render the message at PATH in simulated clients: a PNG a profile, and render.json with what was measured and dropped."""
    from jetwind.cli.inputs import message_at, profiles_named, syntax_in
    from jetwind.cli.rendering import render_to

    with stage(f"reading “{path}”"):
        message = message_at(path, syntax_in(syntax))
    chosen = profiles_named(profiles)
    as_whom = _reader_of(message, readers, reader)
    if live:
        from jetwind.cli.live import live as fetch

        with stage("fetching pictures"):
            message = fetch(message, (as_whom,) if as_whom is not None else (), reads_links=False).message
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as failure:
        refuse(f"“{out}” cannot be made: {failure.strerror}.")
    for name in ("render.json", *(f"{name}.png" for name in chosen)):
        if (out / name).exists() and not (out / name).is_file():
            refuse(f"“{out / name}” is in the way: it is no file. Nothing was rendered.")
    try:
        with stage("rendering"):
            facts, failures = render_to(message, chosen, out, images=images, dark=dark, reader=as_whom)
        about = {"sha256": message.sha256, **({"reader": as_whom.name} if as_whom is not None else {})}
        (out / "render.json").write_text(json.dumps({"jetwind": __version__, "message": about, "renders": facts}, indent=2), "utf-8")
    except OSError as failure:
        if failure.filename is None or (out not in Path(failure.filename).parents and failure.errno != errno.ENOSPC):
            raise
        refuse(f"“{failure.filename}” cannot be written: {failure.strerror}.")
    for sentence in failures:
        click.echo(f"jetwind: {sentence}", err=True)
    raise click.exceptions.Exit(2 if failures else 0)


def _reader_of(message: Message, path: Path | None, name: str | None) -> Sample | None:
    """The reader to render for: the one named, or of those in the file the one with the longest copy."""
    if path is None:
        if name is not None:
            refuse("--reader names one of --readers, which is not given.")
        return None
    from jetwind.cli.inputs import readers_in
    from jetwind.core.readers import longest

    samples, _ = readers_in(path)
    if name is None:
        return longest(message, samples)
    found = next((sample for sample in samples if sample.name == name), None)
    if found is None:
        known = ", ".join(sample.name for sample in samples[:5])
        refuse(f"there is no reader {name!r} in “{path}”; there are {known}{' …' if len(samples) > 5 else ''}.")
    return found


@app.command()
@click.argument("reviewed", type=click.Path(path_type=Path))
@click.argument("arrived", type=click.Path(path_type=Path))
@click.option("--format", type=click.Choice(["text", "json", "sarif", "csv", "html"]), default="text", help="Form of the report.")
@_file("--zone", "Name records in master-file format, by which signatures are verified.")
def arrived(reviewed: Path, arrived: Path, format: str, zone: Path | None) -> None:
    """Hold the mail ARRIVED against REVIEWED, the copy as it was handed over: both are .eml files.

    Exit status 0: no stop; 1: at least one stop, or not everything was compared; 2: a file or an option could not be used; 3: Jetwind itself failed.
    """
    from jetwind.cli.inputs import mails_at, zone_in
    from jetwind.core.arrivals import Arrivals, Journey
    from jetwind.core.checking import Context, registry
    from jetwind.engines.bounded import PastBudget, judged_bounded, review_bounded

    with stage(f"reading “{reviewed}” and “{arrived}”"):
        (message, copy), (_, arrival) = mails_at(reviewed, arrived)
    with stage("comparing"):
        try:
            compared = judged_bounded(copy, arrival, Journey(), zone_in(zone), start="fork")
        except PastBudget as past:
            click.echo(f"jetwind: the two could not be compared: {past}.", err=True)
            raise click.exceptions.Exit(1) from past
    checks = [check_id for check_id in registry() if check_id.startswith("sending.arrival-")]
    context = Context(arrivals=Arrivals((compared,)))
    with stage("writing the report"):
        result = review_bounded(message, context, checks, start="fork")
        write_out(_report(result, format, reviewed, context=context, fixes={}))
    _end(result)


app.add_command(mend)
app.add_command(verify)
app.add_command(verify_log)


@app.command()
def facts() -> None:
    """Print what Jetwind knows of clients: the support table's date, what of it is carried out, and what is not yet applied."""
    from jetwind.core.profiles.support import coverage, features, not_yet_applied, origin

    table = origin()
    click.echo(f"Client support: {table['package']}, table of {table['date']}, {table['licence']}; {len(features())} features")
    for category, counts in sorted(coverage().items()):
        click.echo(
            f"  {category}: {counts['applied']} of {sum(counts.values())} carried out, {counts['not applicable']} not applicable, {counts['not yet applied']} not yet applied"
        )
    for feature in not_yet_applied():
        lacking = sum(value[:1] in ("n", "a") for value in feature.clients.values())
        click.echo(f"  not yet applied: {feature.slug} ({feature.title}), lacking or in part: {lacking} of {len(feature.clients)} clients")


def _explained(check_id: str) -> str:
    from jetwind.core.checking.options import options_of
    from jetwind.core.checking.registry import declared_as
    from jetwind.core.checking.rulebooks import asking

    declared = declared_as(check_id)
    if declared is None:
        from jetwind.cli.inputs import checks_named

        # With its sentence about the nearest name.
        checks_named([check_id])
        return ""
    lines = [
        f"{declared.id}  ({declared.level.value})",
        declared.name,
        "",
        declared.rule,
        f"Why: {declared.why}",
        f"Fix: {declared.fix}",
        f"Basis: {declared.basis}",
    ]
    lines += [f"Demanded by {book.name}: {demand.says} ({demand.source})" for book, demand in asking(declared.id, (), ())]
    lines += [f"Option {option.name} = {option.default!r}: {option.note} ({option.range})" for option in options_of(declared.options)]
    return "\n".join(lines) + "\n"


def main() -> None:
    """Entry point. A wrong option is one line on standard error and status 2, like any other unusable input."""
    try:
        # Not click's own way in, which writes an empty line when somebody presses Ctrl-C.
        with app.make_context("jetwind", sys.argv[1:]) as context:
            app.invoke(context)
        status = 0
    except click.exceptions.Exit as end:
        status = end.exit_code
    except (click.Abort, KeyboardInterrupt):
        status = 130
    except BrokenPipeError:
        # The reader of a pipe has closed it, as head does: nothing more can be written, not even when Python ends.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        status = 141
    except click.ClickException as wrong:
        click.echo(f"jetwind: {one_line(wrong.format_message())}", err=True)
        status = 2
    except Exception as wrong:
        click.echo(f"jetwind: failed at {at_stage()}: {one_line(f'{type(wrong).__name__}: {wrong}')}", err=True)
        status = 3
    sys.exit(status)
