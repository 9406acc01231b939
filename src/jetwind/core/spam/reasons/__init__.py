"""The reasons, a module for each group. Each looks at one habit of unwanted mail and shows its evidence and where it stands.

Source of every reason: common practice, no published source. They judge what the copy holds, never single words that honest offers need
("sale", "free"). Merge fields of any kind, and what a rulebook demands, are unknown to them.
"""

from jetwind.core.spam.reasons import links, markup, papers, pictures, sender, structure, subject, wording

__all__ = ["links", "markup", "papers", "pictures", "sender", "structure", "subject", "wording"]
