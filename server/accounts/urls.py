from django.urls import path

from accounts.views import SessionView, TokenInfoView, TokenListView, TokenView

urlpatterns = [
    path("session", SessionView.as_view(), name="session"),
    path("token", TokenView.as_view(), name="token"),
    path("tokens", TokenListView.as_view(), name="tokens"),
    path("tokens/<int:token_id>", TokenInfoView.as_view(), name="token-info"),
]
