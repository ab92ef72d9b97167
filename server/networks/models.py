"""Networks, who may do what with them, their revisions, and what was moved by hand on their maps.

A revision is stored whole, as it was uploaded, and never altered; everything computed from it is a cache.
"""

import uuid
import zlib

from django.conf import settings
from django.db import models


class Role(models.TextChoices):
    READER = "reader"
    EDITOR = "editor"
    OWNER = "owner"


class Network(models.Model):
    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=200)
    created_at = models.DateTimeField(auto_now_add=True)
    deleted_at = models.DateTimeField(null=True, blank=True)
    """Deleted ones are kept for a while, for their owners to take back."""

    class Meta:
        ordering = ["name", "created_at"]

    def __str__(self) -> str:
        return self.name


class Membership(models.Model):
    network = models.ForeignKey(Network, on_delete=models.CASCADE, related_name="memberships")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=10, choices=Role.choices)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["network", "user"], name="one role per user and network")]

    def __str__(self) -> str:
        return f"{self.user} {self.role} of {self.network}"


class Revision(models.Model):
    """``packed`` is the upload, compressed; ``digest`` the SHA-256 of the upload as it came."""

    network = models.ForeignKey(Network, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    note = models.CharField(max_length=500, blank=True)
    file_name = models.CharField(max_length=200)
    packed = models.BinaryField()
    size = models.PositiveIntegerField()
    digest = models.CharField(max_length=64)
    taken_at = models.DateTimeField(null=True)
    device_count = models.PositiveIntegerField()
    is_capture = models.BooleanField(default=False)
    error_count = models.PositiveIntegerField(null=True)
    """Problems of the model that are errors; null until somebody looked at them."""

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["network", "number"], name="one revision per number")]

    def __str__(self) -> str:
        return f"{self.network} revision {self.number}"

    def original(self) -> bytes:
        """The upload, byte for byte."""
        return zlib.decompress(bytes(self.packed))


class MovedDevice(models.Model):
    """A device that somebody moved on the map, by so many units of the layout from where it is computed to stand."""

    network = models.ForeignKey(Network, on_delete=models.CASCADE, related_name="moved_devices")
    device = models.CharField(max_length=200)
    right = models.FloatField()
    down = models.FloatField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["network", "device"], name="a device is moved once")]

    def __str__(self) -> str:
        return f"{self.device} of {self.network}"
