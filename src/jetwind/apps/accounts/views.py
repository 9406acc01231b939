"""Signing in, oneself, and a forgotten password."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib import messages
from django.contrib.auth import update_session_auth_hash
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView, PasswordResetConfirmView
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse_lazy
from django.utils.decorators import method_decorator
from django.views.decorators.http import require_http_methods

from jetwind.apps.accounts import services
from jetwind.apps.accounts.forms import OwnForm, OwnPasswordForm, SignInForm
from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once


class SignIn(LoginView):
    """The sign-in page; in a house without anybody it leads to the page that makes the first workspace."""

    template_name = "accounts/sign_in.html"
    form_class = SignInForm
    redirect_authenticated_user = True

    def get(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        """Show the form to a stranger, and lead a signed-in person on."""
        if not User.objects.exists():
            return redirect("begin")
        return super().get(request, *args, **kwargs)

    def post(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        """Try to sign in, unless too many names have been tried from one place."""
        if services.is_guessing(services.place_of(request)):
            return locked_out(request)
        return super().post(request, *args, **kwargs)

    def form_invalid(self, form: Any) -> HttpResponse:
        """Show the page again; an entry that cannot be a name is a bad request."""
        answer = super().form_invalid(form)
        answer.status_code = 400 if "username" in form.errors and form.data.get("username") else 200
        return answer


def locked_out(request: HttpRequest, *_: Any, **__: Any) -> HttpResponse:
    """After too many tries: what happened, and how long to wait."""
    return render(request, "accounts/locked_out.html", {"minutes": round(settings.AXES_COOLOFF_TIME * 60)}, status=429)


@require_http_methods(["GET", "POST"])
@once
def own(request: HttpRequest) -> HttpResponse:
    """Name, address, password, time zone and theme of the person who is signed in."""
    assert isinstance(request.user, User)
    person = User.objects.get(pk=request.user.pk)
    what = request.POST.get("do", "")
    is_password = what == "password"
    if is_password and services.is_locked_out(request, request.user.username):
        return locked_out(request)
    if what == "prove":
        services.mail_address_link(request.user, request.build_absolute_uri("/").rstrip("/"))
        messages.info(request, f"A link is on its way to {request.user.email}; follow it to show that the address is yours.")
        return redirect("own")
    now = services.shown_own(person)
    form = OwnForm(request.POST if request.method == "POST" and not is_password else None, instance=person)
    password = OwnPasswordForm(request.user, request.POST if is_password else None)
    person_here = request.user
    site = request.build_absolute_uri("/").rstrip("/")

    def keep(shown: Any) -> list[str]:
        return services.change_own(person_here, form.cleaned_data, shown, site=site)

    if kept(request, form, keep, is_sent=not is_password) is not None:
        messages.success(request, "Your details are kept.")
        return redirect("own")
    if is_password and password.is_valid():
        with transaction.atomic():
            changed = password.save()
            record("account.changed", actor=request.user, fields="password")
        # Every other session of this person ends with the old password.
        update_session_auth_hash(request, changed)
        messages.success(request, "Your new password is kept. Other devices have to sign in again.")
        return redirect("own")
    if is_password and "old_password" in password.errors:
        services.count_failure(request, request.user.username)
    page = {"form": form, "password": password, "shown": as_shown(now), "section": "own", "can_mail": services.can_mail()}
    return form_page(request, "accounts/own.html", page)


@login_not_required
@require_http_methods(["GET", "POST"])
def forgotten(request: HttpRequest) -> HttpResponse:
    """Ask for a link by which to set a new password."""
    if request.method == "POST" and services.can_mail():
        services.look_for_password_links(request.POST.get("email", ""), request.build_absolute_uri("/").rstrip("/"))
        messages.info(request, "If somebody here has this address, a link is on its way to it.")
        return redirect("sign-in")
    return render(request, "accounts/forgotten.html", {"can_mail": services.can_mail()})


@login_not_required
@require_http_methods(["GET", "POST"])
def prove_address(request: HttpRequest, link: str) -> HttpResponse:
    """The page of a link that proves an address: a press takes the address for the person's. Opening the page alone changes nothing."""
    found = services.person_of(link)
    if found is None:
        sentence = "This link is older than three days, or is of an address that is no longer given. Ask for another on your own page."
        return render(request, "ui/refused.html", {"sentence": sentence}, status=404)
    person, address = found
    if request.method == "POST":
        services.prove_address(person, address, "by a mail")
        messages.success(request, f"{address} is known to be yours.")
        return redirect("own")
    return render(request, "accounts/prove_address.html", {"address": address, "person": person})


@method_decorator(login_not_required, name="dispatch")
class SetPassword(PasswordResetConfirmView):
    """The page of such a link."""

    template_name = "accounts/set_password.html"
    success_url = reverse_lazy("sign-in")

    def form_valid(self, form: Any) -> HttpResponse:
        """Keep the new password, and say so in the log."""
        with transaction.atomic():
            answer = super().form_valid(form)
            record("account.changed", actor=self.user, fields="password")
        messages.success(self.request, "Your new password is kept; sign in with it.")
        return answer
