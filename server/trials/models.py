"""Trials of a network, with all that was done in them.

A trial is data: whatever process is asked makes it anew from its changes.
"""

from django.conf import settings
from django.db import models

from networks.models import Network


class Trial(models.Model):
    """``history`` is the lists of changes as they followed each other, ``at`` the index of the one that holds now:
    undoing goes back in it. ``revision`` is the number of the revision it was written on, ``version`` counts what was
    done, so that nobody overwrites what another did meanwhile.
    """

    network = models.ForeignKey(Network, on_delete=models.CASCADE, related_name="trials")
    number = models.PositiveIntegerField()
    name = models.CharField(max_length=200, blank=True)
    note = models.TextField(max_length=4000, blank=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    revision = models.PositiveIntegerField()
    history = models.JSONField(default=list)
    at = models.PositiveIntegerField(default=0)
    version = models.PositiveIntegerField(default=1)

    class Meta:
        ordering = ["-changed_at"]
        constraints = [models.UniqueConstraint(fields=["network", "number"], name="one trial per number")]

    def __str__(self) -> str:
        return f"trial {self.number} of {self.network}"

    @property
    def changes(self) -> list[dict[str, object]]:
        """The changes that hold now."""
        found: list[dict[str, object]] = self.history[self.at]
        return found
