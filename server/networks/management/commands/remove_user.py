"""Take out a user with all memberships, tokens and sessions; networks stay with their other owners."""

from typing import Any

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import transaction

from networks.models import Role


class Command(BaseCommand):
    help = __doc__
    requires_system_checks = ()  # they load all addresses, and with them the whole core

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("name")

    def handle(self, **options: Any) -> None:
        user = get_user_model().objects.filter(username=options["name"]).first()
        if user is None:
            raise CommandError(f"there is no user {options['name']!r}")
        with transaction.atomic():
            alone = [
                membership.network.name
                for membership in user.memberships.select_related("network").filter(
                    role=Role.OWNER, network__deleted_at=None
                )
                if not membership.network.memberships.filter(role=Role.OWNER).exclude(user=user).exists()
            ]
            if alone:
                raise CommandError(f"{options['name']} is the only owner of {', '.join(alone)}: name another one first")
            user.delete()
        self.stdout.write(f"removed {options['name']}")
