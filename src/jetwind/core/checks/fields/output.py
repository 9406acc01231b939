"""Nothing that looks like a field is left once the message is merged."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.field_texts import uses
from jetwind.core.checking.merged import merged_facts, named
from jetwind.core.fields import tokens
from jetwind.core.message import Message, Sample


@check(
    id="fields.unresolved",
    name="Raw field left in the message",
    level=Level.STOP,
    why="The reader sees the machinery instead of a name, or follows a link that leads nowhere.",
    fix="Mend the reader's value, or the place that quotes a field.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>Dear {{ first_name }}, 50% off [today] and 100%! See footnote [1] and {1}.</p>"),
        clear("<style>@media(max-width:600px){p{color:red}}</style><p style='x'>Set {a, b} and **bold** text</p>"),
        clear("<p>Dear [[first_name]]</p>"),  # told once, by fields.foreign
        clear("<p>Dear {{ first_name,</p>"),  # told once, by fields.malformed
        clear("<!--[if mso]>{{ x }}<![endif]--><p>Price: $20 (from $25)</p>"),
        clear("<p>Dear {{ first_name }},</p>", readers=(Sample("Odd", {"first_name": "50% [off] {1}", "other": "[[NAME]]"}),)),
        finds("<p>Write {% raw %}{{ first_name }}{% endraw %} here</p>", at="{{ first_name }}"),
        finds("<p>Dear {{ first_name }},</p>", at="{{ first_name }}", readers=(Sample("Odd", {"first_name": "[[NAME]]"}),)),
        finds(
            "<p>Dear {{ first_name | upcase }},</p>", at="{{ first_name | upcase }}", readers=(Sample("Odd", {"first_name": "%%name%%"}),)
        ),
        finds(
            "Subject: For {{ first_name }}\nFrom: a@kiln.example\n\nx\n",
            at="Subject: For {{ first_name }}",
            readers=(Sample("Odd", {"first_name": "{{ name }}"}),),
        ),
    ],
)
def find_unresolved(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Subject, preview text, HTML, alternative texts, addresses and plain text hold nothing token-shaped once merged.

    Fields of the message's own syntax are replaced by definition, those that cannot be read are told by fields.malformed, those of
    another syntax by fields.foreign. What remains is what a reader's value brings in, and what is quoted as it stands.
    """
    for use in uses(message):
        if use.token.is_literal and use.kind != "comment":
            data = {"token": use.token.source, "where": use.where}
            yield Hit("“{token}” is quoted, so that it stands as it is in {where}.", use.place, data, identity=use.token.source)
    for one in merged_facts(message, context.readers).brought if uses(message) else ():
        left = next(iter(tokens(one.made, message.syntax)), None)
        if left is not None and one.use.kind != "comment":
            data = {"token": left.source, "where": one.use.where, "readers": named(one.readers), "evidence": one.evidence}
            yield Hit("“{token}” stays unresolved in {where} for {readers}: “{evidence}”.", one.use.place, data, identity=left.source)
