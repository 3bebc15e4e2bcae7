import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = [("runs", "0004_revisions")]

    operations = [
        migrations.CreateModel(
            name="Plate",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("document", models.JSONField(default=dict)),
                ("revision", models.PositiveIntegerField(default=0)),
                ("needs_work", models.BooleanField(default=False)),
                ("held", models.BooleanField(default=False)),
                ("demanded", models.JSONField(default=list)),
                ("working", models.JSONField(default=dict)),
                ("last_good", models.JSONField(default=dict)),
                ("trouble", models.TextField(default="")),
                ("wanted", models.DateTimeField(null=True)),
                ("retry", models.DateTimeField(null=True)),
                ("retries", models.PositiveSmallIntegerField(default=0)),
                ("created", models.DateTimeField(auto_now_add=True)),
                ("touched", models.DateTimeField(auto_now=True)),
                ("owner", models.OneToOneField(on_delete=django.db.models.deletion.PROTECT, to="runs.owner")),
            ],
            options={"ordering": ("-created", "-id"), "abstract": False},
        ),
    ]
