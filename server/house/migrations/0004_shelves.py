import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("house", "0003_general"), migrations.swappable_dependency(settings.AUTH_USER_MODEL)]

    operations = [
        migrations.CreateModel(
            name="ShelfRecord",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("shelf", models.CharField(max_length=20)),
                ("ident", models.CharField(max_length=60)),
                ("revision", models.PositiveIntegerField()),
                ("name", models.CharField(max_length=120)),
                ("steps", models.JSONField(default=dict)),
                ("versions", models.JSONField(default=dict)),
                ("data", models.JSONField(default=dict)),
                ("gone", models.BooleanField(default=False)),
                ("created", models.DateTimeField(auto_now_add=True)),
                ("author", models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, to=settings.AUTH_USER_MODEL)),
            ],
        ),
        migrations.AddConstraint(
            model_name="shelfrecord", constraint=models.UniqueConstraint(fields=("shelf", "ident", "revision"), name="one_row_a_change")
        ),
    ]
