"""When the printer began, and how long it takes: for the day's plan."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("bays", "0003_spec")]

    operations = [
        migrations.AddField(model_name="print", name="began", field=models.DateTimeField(null=True)),
        migrations.AddField(model_name="print", name="takes_s", field=models.FloatField(null=True)),
    ]
