from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("cases", "0005_owned")]

    operations = [migrations.AddField("case", "summary", models.JSONField(default=dict))]
