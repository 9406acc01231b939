"""The modules and data that helpers need, loaded once by the process that they are forked from: imports, tables, patterns, dictionaries."""

from __future__ import annotations

from jetwind.core.checking import Context, registry
from jetwind.core.facts.spelling import is_known
from jetwind.core.fields import fill
from jetwind.core.message import read_bytes
from jetwind.core.profiles import page, profiles, rewrite
from jetwind.core.reports import review
from jetwind.engines.dictionaries import Installed

__all__ = ["page", "review"]

#: A message with something for most checks to read: what they load when they first do is then there for every helper.
_MESSAGE = """From: Kiln <a@kiln.example>
To: b@kiln.example
Subject: Spring {{ first_name | default: "there" }} =?utf-8?q?caf=C3=A9?=
Date: Tue, 9 Mar 2027 09:00:00 +0000
MIME-Version: 1.0
Content-Type: multipart/alternative; boundary=zz

--zz
Content-Type: text/plain; charset=utf-8

Four bowls for 24 pounds, until Tuesday 9 March 2027 at 10:00. Unsubscribe: https://kiln.example/u

--zz
Content-Type: text/html; charset=utf-8

<!doctype html><html lang="en"><head><style>p.a { color: #333; margin: 0 } @media (max-width: 600px) { td { width: 100% } }</style></head>
<body><!--[if mso]><p>x</p><![endif]--><table width="600"><tr><td style="font-family: Georgia, serif; background: #fff">
<p class="a">Dear {{ first_name }}, four glazed bowls for 24 pounds, colour of ash, untill Tuesday 9 March 2027.</p>
<img src="data:image/gif;base64,R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7" alt="A bowl" width="300">
<a href="https://kiln.example/spring?utm_source=mail">See the bowls</a> <a href="https://kiln.example/u">Unsubscribe</a>
<p>Kiln Works, 12 Quay Street, Galway H91 X2Y3, Ireland</p></td></tr></table></body></html>
--zz--
"""


def _warm() -> None:
    registry()
    message = read_bytes(_MESSAGE.replace("\n", "\r\n").encode(), "warm.eml")
    review(message, Context(dictionaries=Installed()))
    rewrite(message, profiles()["word-processor"])
    fill("{% if a %}{{ a }}{% endif %}", {"a": "b"}, escape=False)
    # Each dictionary is opened when a word is not in those before it.
    is_known(Installed(), "en", "qqqq")


_warm()
