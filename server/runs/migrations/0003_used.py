import django.utils.timezone
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0002_owners")]

    operations = [
        migrations.AddField("resultuse", "used", models.DateTimeField(db_index=True, default=django.utils.timezone.now)),
    ]
