"""The one safe way out: asks for links, pictures and pages over HTTP, and connects to no address inside the network."""

from jetwind.engines.fetch.fetcher import Fetched, Fetcher, Patience, Wanted, fetch_all
from jetwind.engines.fetch.policy import Policy, Refusal
from jetwind.engines.fetch.resolving import Endpoint, FakeResolver, NoWayOut, PracticeResolver, Resolver, SystemResolver

__all__ = [
    "Endpoint",
    "FakeResolver",
    "Fetched",
    "Fetcher",
    "NoWayOut",
    "Patience",
    "Policy",
    "PracticeResolver",
    "Refusal",
    "Resolver",
    "SystemResolver",
    "Wanted",
    "fetch_all",
]
