from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("house", "0001_initial")]

    operations = [
        migrations.AddField("houserevision", "versions", models.JSONField(default=dict)),
    ]
