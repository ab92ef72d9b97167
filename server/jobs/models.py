"""Jobs, the parts they are cut into, and what of each revision's expectations was found by them."""

import uuid

from django.conf import settings
from django.db import models

from networks.models import Network, Revision


class JobState(models.TextChoices):
    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    CANCELLED = "cancelled"
    FAILED = "failed"


class JobQuestion(models.TextChoices):
    FAILURES = "failures"
    TRAFFIC = "traffic"


UNDER_WAY = (JobState.WAITING, JobState.RUNNING)


class Job(models.Model):
    """Expectations of a revision held under failures, in parts; or all traffic with a trial against that without it.

    ``key`` is the same where the answer is: of two that ask the same, one is done. ``as_it_is`` and ``result`` are
    JSON; ``count`` is how many failures or steps there are, once that is known, ``steps`` how many of these are done.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    network = models.ForeignKey(Network, on_delete=models.CASCADE, related_name="jobs")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="jobs")
    question = models.CharField(max_length=10, choices=JobQuestion.choices, default=JobQuestion.FAILURES)
    failures = models.CharField(max_length=100, blank=True)
    trial = models.PositiveIntegerField(null=True)
    changes = models.TextField(blank=True)
    key = models.CharField(max_length=64, db_index=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    state = models.CharField(max_length=10, choices=JobState.choices, default=JobState.WAITING)
    problem = models.TextField(blank=True)
    count = models.PositiveIntegerField(null=True)
    steps = models.PositiveIntegerField(default=0)
    as_it_is = models.BinaryField(null=True)
    result = models.BinaryField(null=True)

    class Meta:
        ordering = ["-created_at"]

    def __str__(self) -> str:
        return f"{self.failures or self.question} of {self.revision}"


class JobPart(models.Model):
    """Failures from ``start`` up to ``stop``, by number, and what was found of them as JSON."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="parts")
    start = models.PositiveIntegerField()
    stop = models.PositiveIntegerField()
    found = models.BinaryField(null=True)
    found_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["start"]
        constraints = [models.UniqueConstraint(fields=["job", "start"], name="each part once")]

    def __str__(self) -> str:
        return f"{self.start} to {self.stop} of {self.job}"


class KeptExpectation(models.Model):
    """What was found of an expectation in a revision as it is, with what it names to survive."""

    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="kept_expectations")
    name = models.TextField()
    state = models.CharField(max_length=10)
    words = models.TextField(blank=True)
    """Why, where it does not hold."""

    def __str__(self) -> str:
        return f"{self.name} in {self.revision}"
