"""Make the first user of a new database, and print the address with how to sign in."""

from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from networks.first_use import first_user, greeting


class Command(BaseCommand):
    help = __doc__
    requires_system_checks = ()  # they load all addresses, and with them the whole core

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--address", required=True)

    def handle(self, **options: Any) -> None:
        _, password = first_user()
        self.stdout.write(greeting(options["address"], password))
