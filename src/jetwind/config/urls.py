"""Addresses: every view has its own."""

from django.contrib.auth.views import LogoutView
from django.urls import include, path

from jetwind.apps.accounts.views import SetPassword, SignIn, forgotten, own, prove_address
from jetwind.apps.ui.views import health
from jetwind.apps.workspace.access import asks

urlpatterns = [
    path("sign-in/", SignIn.as_view(), name="sign-in"),
    path("sign-out/", asks()(LogoutView.as_view()), name="sign-out"),
    path("forgotten/", forgotten, name="forgotten"),
    path("set-password/<uidb64>/<token>/", SetPassword.as_view(), name="set-password"),
    path("prove-address/<str:link>/", prove_address, name="prove-address"),
    path("me/", asks()(own), name="own"),
    path("health/", health, name="health"),
    path("", include("jetwind.apps.departures.urls")),
    path("", include("jetwind.apps.sets.urls")),
    path("", include("jetwind.apps.mends.urls")),
    path("", include("jetwind.apps.intake.urls")),
    path("", include("jetwind.apps.notices.urls")),
    path("", include("jetwind.apps.approvals.urls")),
    path("", include("jetwind.apps.proofs.urls")),
    path("", include("jetwind.apps.links.urls")),
    path("", include("jetwind.apps.instructions.urls")),
    path("", include("jetwind.apps.previews.urls")),
    path("", include("jetwind.apps.workspace.urls")),
    path("", include("jetwind.apps.review.urls")),
]
handler400 = "jetwind.apps.ui.views.bad_request"
handler404 = "jetwind.apps.ui.views.not_found"
handler500 = "jetwind.apps.ui.views.broken"
