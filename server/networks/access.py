"""Who may do what: the one place where roles are checked.

A network of which one is no member does not exist for one (404); a role that does not suffice is
refused (403).
"""

from django.shortcuts import get_object_or_404
from rest_framework.exceptions import PermissionDenied
from rest_framework.request import Request

from networks.models import Membership, Network, Revision, Role

RANK = {Role.READER: 0, Role.EDITOR: 1, Role.OWNER: 2}


def membership_of(request: Request, network_id: object, at_least: Role = Role.READER) -> Membership:
    """The signed-in user's membership in a network, if it has at least the role asked for."""
    membership = get_object_or_404(
        Membership.objects.select_related("network"), network_id=network_id, user=request.user
    )
    if RANK[Role(membership.role)] < RANK[at_least]:
        raise PermissionDenied(f"This needs the role {at_least.value}; yours is {membership.role}.")
    return membership


def network_of(request: Request, network_id: object, at_least: Role = Role.READER) -> Network:
    return membership_of(request, network_id, at_least).network


def revision_of(request: Request, network_id: object, number: int) -> Revision:
    """A revision of a network one can read, without its text."""
    network = network_of(request, network_id)
    return get_object_or_404(network.revisions.defer("packed"), number=number)
