"""Tokens by which scripts act for a user."""

from django.conf import settings
from django.db import models


class ApiToken(models.Model):
    """``digest`` is the SHA-256 of the token, which is shown once and not kept. ``password`` is a fingerprint of
    the user's password when it was made: a new password ends the token."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="api_tokens")
    name = models.CharField(max_length=100)
    digest = models.CharField(max_length=64, unique=True)
    password = models.CharField(max_length=128)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField(null=True, blank=True)
    last_used_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-created_at", "-id"]

    def __str__(self) -> str:
        return f"{self.name} of {self.user}"
