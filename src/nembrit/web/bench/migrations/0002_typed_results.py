"""Results are kept by analysis, typed and packed; those of before are computed anew from the same logs."""

from django.db import migrations, models


def throw_away(apps, schema_editor):
    apps.get_model("bench", "StoredResult").objects.using(schema_editor.connection.alias).all().delete()


class Migration(migrations.Migration):
    dependencies = [("bench", "0001_initial"), ("logs", "0004_drafts")]

    operations = [
        migrations.RunPython(throw_away, migrations.RunPython.noop),
        migrations.RemoveField(model_name="storedresult", name="parameters"),
        migrations.RemoveField(model_name="storedresult", name="payload"),
        migrations.AddField(model_name="storedresult", name="content", field=models.BinaryField(default=b"")),
    ]
