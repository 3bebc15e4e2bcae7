import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("cases", "0004_owners")]

    operations = [
        migrations.AlterField("case", "owner", models.OneToOneField(on_delete=django.db.models.deletion.PROTECT, to="runs.owner")),
    ]
