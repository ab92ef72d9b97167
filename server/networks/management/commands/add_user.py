"""Add a user, or give one a new password; the password is made here and printed once."""

import secrets
from typing import Any

from django.contrib.auth import get_user_model
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError, CommandParser


class Command(BaseCommand):
    help = __doc__
    requires_system_checks = ()  # they load all addresses, and with them the whole core

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("name")

    def handle(self, **options: Any) -> None:
        name = options["name"]
        try:
            UnicodeUsernameValidator()(name)
        except ValidationError:
            raise CommandError(f"{name!r} is no user name; allowed: letters, digits and @.+-_") from None
        password = "-".join(secrets.token_hex(2) for _ in range(4))
        user, is_new = get_user_model().objects.get_or_create(username=name)
        user.set_password(password)
        user.save()
        self.stdout.write(f"{'added' if is_new else 'new password for'} {name}: {password}")
