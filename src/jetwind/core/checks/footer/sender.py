"""The reader learns who sends this, why they get it, and where they choose what they get."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Hit, Kind, Level, Options, Place, check, clear, finds
from jetwind.core.checks.footer.asked import REASON_FIELDS, is_of_the_house, lacking, need_bulk
from jetwind.core.links.said import footer_of, is_sender_known
from jetwind.core.message import Message

_HEAD = "From: Saltmarsh Kiln Works <hello@kiln-quay.org>\nSubject: Twelve glazes\n"
_HTML = f"{_HEAD}Content-Type: text/html; charset=utf-8\n\n"


def _whole(message: Message) -> Place:
    return Place("html" if message.html is not None else "text")


def _need_copy(message: Message) -> None:
    if message.html is None and message.text is None:
        raise DoesNotApply("the message has no text at all")


@check(
    id="footer.identity-missing",
    name="The sender is not named",
    level=Level.FIX,
    why="The law asks for it in several countries, and a reader who does not know who writes deletes or reports it.",
    fix="Write the organisation's name in the footer.",
    basis="Common practice, no published source, for how it is recognised; CASL s. 6(2), Directive 2002/58/EC art. 13(4) (from memory)",
    merged=True,
    samples=[
        clear(f"{_HTML}<p>Twelve glazes.</p><p>Saltmarsh Kiln Works, 12 Kiln Quay</p>"),
        clear(f"{_HTML}<p>Your friends at Saltmarsh say hello.</p>"),
        finds(f"{_HTML}<p>Fire with us at the works until Sunday.</p>"),  # an ordinary word of the name
        clear(f"{_HTML}<img src='https://kiln.org/a.png' alt='Saltmarsh Kiln Works'><p>Twelve glazes.</p>"),
        clear(f"{_HTML}<p>Twelve glazes.</p><p>kiln quay, since 1987</p>"),  # the words of the domain
        clear(f"{_HTML}<p>Twelve glazes.</p><p>© 2027 Harbour Pots. All rights reserved.</p>"),
        clear(f"{_HTML}<p>Zwölf Glasuren.</p><p>Hafen Keramik GmbH, Amtsgericht Aurich</p>"),
        clear(f"{_HTML}<p>Двенадцать глазурей.</p><p>ООО «Печь»</p>"),
        clear("<p>HTML of which nobody knows who sends it</p>"),
        clear(f"{_HTML}<p>{{{{ company_name }}}}</p>"),
        clear("From: {{ sender }} <{{ address }}>\nSubject: x\n\nTwelve glazes.\n"),
        clear(f"{_HEAD}\nTwelve glazes.\n\nSaltmarsh Kiln Works\n"),
        finds(f"{_HTML}<p>Twelve glazes are a fifth off until Sunday.</p>"),
        finds(f"{_HEAD}\nTwelve glazes are a fifth off until Sunday.\n\nUnsubscribe: https://elsewhere.net/u\n"),
    ],
)
def find_identity(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The copy names the organisation that sends it."""
    _need_copy(message)
    need_bulk(context, "footer.identity-missing", "a transactional message is about what its reader asked of the sender")
    footer = footer_of(message)
    if footer.said("identity") is not None or footer.has_field("company", "organi", "sender", "brand", "firm"):
        return
    if not is_sender_known(message):
        raise CannotTell("who sends it is not known yet")
    name = next((box.name or box.address for box in message.mailboxes("From")), "the sender")
    yield Hit("The copy nowhere names {name}.", _whole(message), {"name": name}, identity="missing")


@check(
    id="footer.reason-missing",
    name="Nothing says why the reader gets this",
    level=Level.NOTE,
    why="Who does not remember signing up reports the message instead of unsubscribing.",
    fix="Say where and when this reader signed up, in one sentence.",
    basis="Common practice, no published source; Regulation (EU) 2016/679 art. 21 (from memory) lies behind it",
    merged=True,
    samples=[
        clear("<p>You are receiving this because you signed up at our open studio.</p>"),
        clear("<p>This e-mail was sent to maeve@kiln.org.</p>"),
        clear("<p>Sie erhalten diese E-Mail, weil Sie sich angemeldet haben.</p>"),
        clear("<p>Vous recevez cet e-mail car vous êtes inscrit.</p>"),
        clear("<p>Recibe este correo porque se suscribió.</p>"),
        clear("<p>Hai ricevuto questa email perché ti sei iscritto.</p>"),
        clear("<p>U ontvangt deze e-mail omdat u zich heeft ingeschreven.</p>"),
        clear("<p>Recebeu este e-mail porque se inscreveu.</p>"),
        clear("<p>Otrzymujesz tę wiadomość, ponieważ zapisałeś się.</p>"),
        clear("<p>Вы получили это письмо, потому что вы подписались.</p>"),
        clear("<p>Du får detta mejl eftersom du har anmält dig.</p>"),
        clear("<p>Your receipt</p>", kind="transactional"),
        clear("<p>{{ permission_reminder }}</p>"),
        finds("<p>Twelve glazes are a fifth off. <a href='https://kiln.org/u'>Unsubscribe</a></p>"),
        finds("From: a@kiln.org\nSubject: x\n\nTwelve glazes are a fifth off.\n"),
    ],
)
def find_reason(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A message to an audience says why this reader gets it."""
    _need_copy(message)
    need_bulk(context, "footer.reason-missing", "a transactional message is about what its reader did")
    footer = footer_of(message)
    if footer.said("reason") is None and not footer.has_field(*REASON_FIELDS):
        alone = Hit("Nothing says why the reader gets this message.", _whole(message), identity="missing")
        yield lacking("footer.reason-missing", message, context, alone)


@check(
    id="footer.preferences-missing",
    name="No page to choose what to get",
    level=Level.NOTE,
    why="A reader who wants less, and not nothing, can only leave.",
    fix="Put a link to the page where readers choose subjects and frequency in the footer.",
    basis="Common practice, no published source",
    merged=True,
    samples=[
        clear("<a href='https://kiln.org/p'>Update your preferences</a>", kind="newsletter"),
        clear("<a href='https://kiln.org/preferences?m=1'>Choose</a>", kind="newsletter"),
        clear("<a href='{{ preferences_url }}'>Choose</a>", kind="newsletter"),
        clear("<p>To choose what you receive, <a href='https://kiln.org/p/9'>click here</a>.</p>", kind="newsletter"),
        clear("<p>Newsletter-Einstellungen: <a href='https://kiln.org/p/9'>hier</a></p>", kind="newsletter"),
        clear("<a href='https://kiln.org/p'>Настройки рассылки</a>", kind="newsletter"),
        clear("From: a@kiln.org\nSubject: x\n\nNews.\n\nPreferences: https://kiln.org/p/9\n", kind="newsletter"),
        clear("<p>Twelve glazes are a fifth off.</p>"),  # an offer
        finds("<p>News. <a href='https://kiln.org/u'>Unsubscribe</a></p>", kind="newsletter"),
        finds("<p>Our preference is ash. <a href='https://kiln.org/a'>Ash glazes</a></p>", kind="newsletter"),
    ],
)
def find_preferences(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A newsletter links to a page where its readers choose what they get."""
    _need_copy(message)
    if context.kind is not Kind.NEWSLETTER and not is_of_the_house(context, "footer.preferences-missing"):
        raise DoesNotApply("only a newsletter needs a page to choose from")
    if footer_of(message).said("preferences") is None:
        alone = Hit("The newsletter links to no page where readers choose what they get.", _whole(message), identity="missing")
        yield lacking("footer.preferences-missing", message, context, alone)
