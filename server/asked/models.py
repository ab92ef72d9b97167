"""What users asked before, with the answer per revision: the record of a repair."""

from django.conf import settings
from django.db import models

from networks.models import Network, Revision


class AskedFlow(models.Model):
    """A flow that a user asked of a network. A starred one is asked again of every new revision."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="asked_flows")
    network = models.ForeignKey(Network, on_delete=models.CASCADE, related_name="asked_flows")
    source = models.CharField(max_length=200)
    destination = models.CharField(max_length=200)
    service = models.CharField(max_length=100)
    enter = models.CharField(max_length=200, blank=True)
    starred = models.BooleanField(default=False)
    asked_at = models.DateTimeField()

    class Meta:
        ordering = ["-starred", "-asked_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["user", "network", "source", "destination", "service", "enter"], name="a flow is kept once"
            )
        ]

    def __str__(self) -> str:
        return f"{self.source} > {self.destination} {self.service}"


class KeptAnswer(models.Model):
    """Its answer by one revision, which never changes; ``back`` is '' where there is no way back to tell."""

    flow = models.ForeignKey(AskedFlow, on_delete=models.CASCADE, related_name="answers")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="+")
    forward = models.CharField(max_length=12)
    back = models.CharField(max_length=12, blank=True)
    cause = models.CharField(max_length=500, blank=True)
    asked_at = models.DateTimeField()

    class Meta:
        ordering = ["-revision__number"]
        constraints = [models.UniqueConstraint(fields=["flow", "revision"], name="one answer per revision")]

    def __str__(self) -> str:
        return f"{self.flow}: {self.forward}"
