from django.urls import path

from accounts.views import SessionView, TokenView

urlpatterns = [
    path("session", SessionView.as_view(), name="session"),
    path("token", TokenView.as_view(), name="token"),
]
