"""Make a token by which scripts act for a user; its text is printed once."""

from typing import Any

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError, CommandParser

from accounts.tokens import MOST_DAYS, make_token


class Command(BaseCommand):
    help = __doc__
    requires_system_checks = ()  # they load all addresses, and with them the whole core

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("name")
        parser.add_argument("--label", required=True)
        parser.add_argument("--days", type=int, required=True)

    def handle(self, **options: Any) -> None:
        user = get_user_model().objects.filter(username=options["name"]).first()
        if user is None:
            raise CommandError(f"there is no user {options['name']!r}; add one with: ./routrel user NAME")
        if not 1 <= options["days"] <= MOST_DAYS:
            raise CommandError(f"--days must be from 1 to {MOST_DAYS}")
        _, text = make_token(user, options["label"][:100], options["days"])
        self.stdout.write(text)
