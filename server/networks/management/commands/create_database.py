"""Make the server's database in the project's cluster, where it is not there yet."""

import psycopg
from django.conf import settings
from django.core.management.base import BaseCommand
from psycopg import sql


class Command(BaseCommand):
    help = __doc__
    requires_system_checks = ()  # they load all addresses, and with them the whole core

    def handle(self, **options: object) -> None:
        about = settings.DATABASES["default"]
        with psycopg.connect(
            host=about["HOST"],
            port=about["PORT"],
            user=about["USER"],
            password=about["PASSWORD"],
            dbname="postgres",
            autocommit=True,
        ) as connection:
            name = about["NAME"]
            if not connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", [name]).fetchone():
                connection.execute(sql.SQL("CREATE DATABASE {}").format(sql.Identifier(name)))
