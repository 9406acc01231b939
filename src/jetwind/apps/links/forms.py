"""The form of what a workspace opens."""

from __future__ import annotations

from typing import Any

from django import forms

from jetwind.apps.links.models import When, Wire


class WireForm(forms.Form):
    """Lists are words parted by blanks or lines."""

    links = forms.ChoiceField(
        label="Links are opened",
        choices=When,
        help_text="Links by which somebody unsubscribes or changes what they get stay shut all the same.",
    )
    pictures = forms.ChoiceField(
        label="Pictures that lie elsewhere are fetched", choices=When, help_text="Tracking pictures of up to 3 × 3 px never are."
    )
    shut = forms.CharField(
        label="Never opened",
        required=False,
        widget=forms.Textarea(attrs={"rows": 3}),
        help_text="Hosts, with everything below them, or beginnings of addresses.",
    )
    inward_hosts = forms.CharField(
        label="Hosts that may lie inside the network",
        required=False,
        widget=forms.Textarea(attrs={"rows": 2}),
        help_text="Each with its port, such as intranet.saltmarsh-kiln.example:8080; without one, 80 and 443. The administrator of this installation has to allow them (JETWIND_INWARD_HOSTS). Every other host that stands for an address inside is refused.",
    )
    ports = forms.CharField(label="Ports besides 80 and 443", required=False, max_length=400)

    @classmethod
    def initial_of(cls, wire: Wire) -> dict[str, Any]:
        """The fields as the house has them."""
        lists = {name: "\n".join(getattr(wire, name)) for name in ("shut", "inward_hosts")}
        return {"links": wire.links, "pictures": wire.pictures, "ports": " ".join(wire.ports), **lists}
