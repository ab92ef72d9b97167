"""Events of a network, kept as the files that they came in."""

import zlib

from django.conf import settings
from django.db import models

from networks.models import Network


class EventFile(models.Model):
    """``packed`` is the file, compressed; ``digest`` the SHA-256 of it as it came. It is never altered."""

    network = models.ForeignKey(Network, on_delete=models.CASCADE, related_name="event_files")
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    file_name = models.CharField(max_length=200)
    digest = models.CharField(max_length=64)
    packed = models.BinaryField()
    size = models.PositiveIntegerField()
    count = models.PositiveIntegerField()
    samples = models.PositiveIntegerField(default=0)
    first = models.DateTimeField()
    last = models.DateTimeField()

    class Meta:
        ordering = ["first", "id"]
        constraints = [models.UniqueConstraint(fields=["network", "digest"], name="a file of events once")]

    def __str__(self) -> str:
        return f"{self.file_name} of {self.network}"

    def original(self) -> bytes:
        """The file, byte for byte."""
        return zlib.decompress(bytes(self.packed))
