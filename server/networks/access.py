"""Who may do what: the one place where roles are checked.

A network of which one is no member, or that is deleted, does not exist for one (404); a role that does not suffice is
refused (403).
"""

from django.http import Http404
from django.shortcuts import get_object_or_404
from rest_framework.exceptions import PermissionDenied
from rest_framework.request import Request

from networks.models import Membership, Network, Revision, Role
from networks.reigns import moment_asked, true_at
from work.service import Subject

RANK = {Role.READER: 0, Role.EDITOR: 1, Role.OWNER: 2}


def membership_of(request: Request, network_id: object, at_least: Role = Role.READER) -> Membership:
    """The signed-in user's membership in a network, if it has at least the role asked for."""
    membership = get_object_or_404(
        Membership.objects.select_related("network").filter(network__deleted_at=None),
        network_id=network_id,
        user=request.user,
    )
    if RANK[Role(membership.role)] < RANK[at_least]:
        raise PermissionDenied(f"This needs the role {at_least.value}; yours is {membership.role}.")
    return membership


def network_of(request: Request, network_id: object, at_least: Role = Role.READER) -> Network:
    return membership_of(request, network_id, at_least).network


class RevisionNumber:
    """A revision in an address: its number, or ``latest``, which is None."""

    regex = "[0-9]{1,9}|latest"

    def to_python(self, text: str) -> int | None:
        return None if text == "latest" else int(text)

    def to_url(self, number: int | str | None) -> str:
        return "latest" if number is None else str(number)


def revision_of(request: Request, network_id: object, number: int | None) -> Revision:
    """A revision of a network one can read, without its text; where no number is given, the latest, or the one that was
    true at the moment that the question is asked of."""
    network = network_of(request, network_id)
    moment = moment_asked(request)
    if number is None and moment is not None:
        return true_at(network, moment)
    revisions = network.revisions.defer("packed")
    found: Revision | None = (revisions if number is None else revisions.filter(number=number)).first()
    if found is None:
        raise Http404("This network has no revision." if number is None else f"There is no revision {number}.")
    return found


def subject_of(revision: Revision) -> Subject:
    """A revision for a work process; one that has been deleted meanwhile does not exist."""

    def text() -> bytes:
        return bytes(get_object_or_404(Revision, pk=revision.pk).original())

    return Subject(revision.digest, revision.file_name, text)
