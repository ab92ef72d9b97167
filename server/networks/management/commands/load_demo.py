"""Load the demo network as the example folder stands now, and print the address with how to sign in."""

from typing import Any

from django.core.management.base import BaseCommand, CommandParser
from django.db import transaction

from history.example import add_example_history
from networks.example import FILE_NAME, zipped_example
from networks.first_use import first_user, greeting
from networks.models import Membership, Network, Role
from networks.uploads import store, upload_of


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--address", required=True)

    def handle(self, **options: Any) -> None:
        user, password = first_user()
        upload = upload_of(FILE_NAME, zipped_example())
        with transaction.atomic():
            network = Network.objects.filter(name=upload.loaded.name, memberships__user=user, deleted_at=None).first()
            if network is None:
                network = Network.objects.create(name=upload.loaded.name)
                Membership.objects.create(network=network, user=user, role=Role.OWNER)
            latest = network.revisions.defer("packed").first()
            if latest is None or latest.digest != upload.digest:
                store(network, upload, user, "the demo as shipped")
        add_example_history(network, user)
        self.stdout.write(greeting(options["address"], password))
