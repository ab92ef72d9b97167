"""Deleted networks: out of sight at once, gone for good after a while, taken back by an owner until then."""

from datetime import timedelta

from django.utils import timezone

from networks.models import Network

KEPT = timedelta(days=14)
"""How long a deleted network can be taken back."""


def delete(network: Network) -> None:
    """Put a network out of sight, and those deleted long ago out of the database."""
    network.deleted_at = timezone.now()
    network.save(update_fields=["deleted_at"])
    remove_old()


def take_back(network: Network) -> None:
    network.deleted_at = None
    network.save(update_fields=["deleted_at"])


def remove_old() -> None:
    Network.objects.filter(deleted_at__lt=timezone.now() - KEPT).delete()
