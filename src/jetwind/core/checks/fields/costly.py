"""A template that can be filled within bounds."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.field_texts import field_texts
from jetwind.core.checking.merged import merged_facts, past_limit_of
from jetwind.core.message import Message


@check(
    id="fields.past-limit",
    name="Template that asks for too much to be filled",
    level=Level.STOP,
    why="A sending system gives up on it, or sends it unfilled; here it is shown and sent without its blocks decided.",
    fix="Shorten the loop, or take out what doubles a text or a number again and again.",
    basis="House limits (core/source/limits.py), many times what a real template asks for",
    samples=[
        clear("<p>{% for item in (1..50) %}{{ item }}{% endfor %}</p>"),
        clear("<p>{% if first_name %}Dear {{ first_name | upcase | append: '!' }}{% else %}Hello{% endif %}</p>"),
        clear("<p>{% assign a = 'glaze' | replace: 'g', 'bl' %}{{ a }}</p>"),
        clear("<p>{% if %}broken, and told by others{% endif %}</p>"),
        clear("<p>{{ n | times: 3 }}</p>"),
        finds("<p>{% for item in (1..999999999) %}x{% endfor %}</p>"),
        finds("<p>{% assign all = (1..1000000000) | join: ',' %}x</p>"),
        finds("<p>{% assign s = 'ab' %}" + "{% assign s = s | append: s %}" * 25 + "x</p>"),
        finds("<p>{% assign n = 12345678901234567890 %}" + "{% assign n = n | times: n %}" * 20 + "x</p>"),
        finds(
            "Subject: {% for i in (1..99999) %}x{% endfor %}\nFrom: a@kiln.example\n\nx\n",
            at="Subject: {% for i in (1..99999) %}x{% endfor %}",
        ),
    ],
)
def find_past_limit(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Headers, subjects, preview text, HTML and plain text can be filled for the first readers within the limits of loops, texts, numbers and lists."""
    for text in field_texts(message):
        reason = past_limit_of(message, text, context.readers)
        if reason:
            place = text.place(text.tokens[0].span)
            yield Hit("The {where} cannot be filled: {reason}.", place, {"where": text.where, "reason": reason}, identity=text.where)
    left_out = merged_facts(message, context.readers).left_out if context.readers and field_texts(message) else 0
    if left_out:
        text = field_texts(message)[0]
        data = {"left_out": left_out, "all": len(context.readers)}
        sentence = "The copies of {left_out} of {all} sample readers were not looked at: together they are too long."
        yield Hit(sentence, text.place(text.tokens[0].span), data, identity="left out", level=Level.NOTE)
