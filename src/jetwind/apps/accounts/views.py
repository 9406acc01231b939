"""Signing in."""

from __future__ import annotations

from django.contrib.auth.views import LoginView


class SignIn(LoginView):
    """The sign-in page."""

    template_name = "accounts/sign_in.html"
    redirect_authenticated_user = True
