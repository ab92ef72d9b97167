from django.core.management import call_command
from django.db import migrations


def make_table(apps, schema_editor):
    """The table of the cache in which sign-ins are counted, for all web processes."""
    call_command("createcachetable", database=schema_editor.connection.alias, verbosity=0)


def drop_table(apps, schema_editor):
    schema_editor.execute("DROP TABLE IF EXISTS counted_for_a_while")


class Migration(migrations.Migration):
    dependencies = [("accounts", "0001_api_tokens")]

    operations = [migrations.RunPython(make_table, drop_table)]
