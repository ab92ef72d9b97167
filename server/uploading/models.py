"""Uploads that workers read: what was sent, what is done of it, and what became of it."""

import uuid
import zlib

from django.conf import settings
from django.db import models

from networks.models import Network, Revision


class UploadState(models.TextChoices):
    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"


UNDER_WAY = (UploadState.WAITING, UploadState.RUNNING)


class UploadJob(models.Model):
    """``packed`` is the upload, compressed, until it is read; ``digest`` the SHA-256 of it as it came.

    ``network`` is the one it is a revision of, null while it is to be a network of its own. Of a failed one ``problem``
    says why, and ``errors`` each place in the upload, as the API says them.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="uploads")
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    network = models.ForeignKey(Network, null=True, on_delete=models.CASCADE, related_name="+")
    name = models.CharField(max_length=200, blank=True)
    note = models.CharField(max_length=500, blank=True)
    file_name = models.CharField(max_length=200)
    packed = models.BinaryField()
    size = models.PositiveIntegerField()
    digest = models.CharField(max_length=64)
    state = models.CharField(max_length=10, choices=UploadState.choices, default=UploadState.WAITING)
    stage = models.CharField(max_length=10, blank=True)
    problem = models.TextField(blank=True)
    errors = models.JSONField(default=list)
    revision = models.ForeignKey(Revision, null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["-created_at"]

    def __str__(self) -> str:
        return f"{self.file_name} of {self.created_by}"

    def original(self) -> bytes:
        """The upload, byte for byte."""
        return zlib.decompress(bytes(self.packed))
