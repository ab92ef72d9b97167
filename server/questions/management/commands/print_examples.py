"""Print answers about the network that ships, for the API's schema."""

import json
from typing import Any

from django.core.management.base import BaseCommand

from questions.examples import answers


class Command(BaseCommand):
    help = __doc__

    def handle(self, **options: Any) -> None:
        self.stdout.write(json.dumps(answers(), indent=1))
