"""The practice field's web: the pages behind the demo's links, and every kind of answer that a link may get."""

from jetwind.engines.practice.directory import DOMAIN, OTHER_DOMAIN, Directory
from jetwind.engines.practice.serving import PracticeWeb, RunningPractice

__all__ = ["DOMAIN", "OTHER_DOMAIN", "Directory", "PracticeWeb", "RunningPractice"]
