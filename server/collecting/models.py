"""Rounds over inventories: when, who answered, and the revision that came of it."""

from django.db import models

from networks.models import Network, Revision


class Round(models.Model):
    """One round of an inventory into a network; ``every`` is in minutes, as the inventory said then.

    ``failed`` has the devices that could not be had, each with the reason; ``unknown`` the interfaces that hear a
    neighbour which the inventory lacks, each with that. ``problem`` is why nothing came of the round.
    """

    network = models.ForeignKey(Network, on_delete=models.CASCADE, related_name="rounds")
    inventory = models.CharField(max_length=200)
    every = models.PositiveIntegerField(null=True)
    began_at = models.DateTimeField(auto_now_add=True)
    ended_at = models.DateTimeField(null=True)
    answered = models.PositiveIntegerField(default=0)
    failed = models.JSONField(default=dict)
    unknown = models.JSONField(default=dict)
    problem = models.TextField(blank=True)
    revision = models.ForeignKey(Revision, null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["-began_at"]
        indexes = [models.Index(fields=["inventory", "-began_at"], name="the last of an inventory")]

    def __str__(self) -> str:
        return f"{self.inventory} into {self.network}"
