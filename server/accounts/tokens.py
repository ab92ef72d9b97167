"""Tokens made, and the requests that carry one."""

import hashlib
import hmac
import secrets
from datetime import timedelta
from typing import Any

from django.utils import timezone
from rest_framework.authentication import BaseAuthentication, get_authorization_header
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.request import Request

from accounts.models import ApiToken

MOST_TOKENS = 50
MOST_DAYS = 3650
DEFAULT_DAYS = 365
USED_AGAIN = timedelta(minutes=1)
"""How exactly the last use is noted."""


def make_token(user: Any, name: str, days: int | None = DEFAULT_DAYS) -> tuple[ApiToken, str]:
    """A new token of a user and its text, which is nowhere else."""
    text = f"routrel_{secrets.token_urlsafe(30)}"
    ends = None if days is None else timezone.now() + timedelta(days=days)
    fingerprint = user.get_session_auth_hash()
    token = ApiToken.objects.create(user=user, name=name, digest=_digest(text), password=fingerprint, expires_at=ends)
    return token, text


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


class TokenAuthentication(BaseAuthentication):
    """``Authorization: Token …``, as scripts send it."""

    keyword = "Token"

    def authenticate(self, request: Request) -> tuple[Any, ApiToken] | None:
        parts = get_authorization_header(request).split()
        if not parts or parts[0].lower() != self.keyword.lower().encode():
            return None
        if len(parts) != 2:
            raise AuthenticationFailed("The token is not in its form: Authorization: Token TEXT.")
        token = ApiToken.objects.select_related("user").filter(digest=_digest(parts[1].decode("latin-1"))).first()
        if token is None or not token.user.is_active:
            raise AuthenticationFailed("This token is not known, or was taken back.")
        if token.expires_at is not None and token.expires_at <= timezone.now():
            raise AuthenticationFailed(f"This token ended at {token.expires_at:%Y-%m-%d %H:%M} UTC.")
        if not hmac.compare_digest(token.password, token.user.get_session_auth_hash()):
            raise AuthenticationFailed("This token ended when the password was changed.")
        now = timezone.now()
        if token.last_used_at is None or now - token.last_used_at > USED_AGAIN:
            ApiToken.objects.filter(pk=token.pk).update(last_used_at=now)
        return token.user, token

    def authenticate_header(self, request: Request) -> str:
        return self.keyword
