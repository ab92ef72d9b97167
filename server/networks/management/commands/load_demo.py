"""Load the demo network as the example folder stands now, and print the address with how to sign in."""

import io
import zipfile
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandParser
from django.db import transaction

from networks.first_use import first_user, greeting
from networks.models import Membership, Network, Role
from networks.uploads import store, upload_of

EXAMPLE = settings.ROOT / "examples" / "saltmarsh"


def zipped_example() -> bytes:
    """The example folder as a zip archive, the same bytes each time."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for path in sorted(EXAMPLE.rglob("*.yaml")):
            member = zipfile.ZipInfo(path.relative_to(EXAMPLE).as_posix(), (2026, 1, 1, 0, 0, 0))
            archive.writestr(member, path.read_bytes(), zipfile.ZIP_DEFLATED)
    return buffer.getvalue()


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--address", required=True)

    def handle(self, **options: Any) -> None:
        user, password = first_user()
        data = zipped_example()
        upload = upload_of("saltmarsh.zip", data)
        with transaction.atomic():
            network = Network.objects.filter(name=upload.loaded.name, memberships__user=user).first()
            if network is None:
                network = Network.objects.create(name=upload.loaded.name)
                Membership.objects.create(network=network, user=user, role=Role.OWNER)
            latest = network.revisions.defer("packed").first()
            if latest is None or latest.digest != upload.digest:
                store(network, upload, user, "the demo as shipped")
        self.stdout.write(greeting(options["address"], password))
