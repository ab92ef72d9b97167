from datetime import datetime

from django.db import migrations, models


def to_times(apps, schema_editor):
    revisions = apps.get_model("networks", "Revision").objects
    for revision in revisions.exclude(said_at="").only("pk", "said_at").iterator():
        text = revision.said_at.upper().replace(" ", "T")
        revisions.filter(pk=revision.pk).update(taken_at=datetime.fromisoformat(text))


def to_texts(apps, schema_editor):
    revisions = apps.get_model("networks", "Revision").objects
    for revision in revisions.exclude(taken_at=None).only("pk", "taken_at").iterator():
        revisions.filter(pk=revision.pk).update(said_at=revision.taken_at.isoformat())


class Migration(migrations.Migration):
    dependencies = [("networks", "0001_networks_and_revisions")]

    operations = [
        migrations.RenameField("revision", "taken_at", "said_at"),
        migrations.AddField("revision", "taken_at", models.DateTimeField(null=True)),
        migrations.RunPython(to_times, to_texts),
        migrations.RemoveField("revision", "said_at"),
    ]
