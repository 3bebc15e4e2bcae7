import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0003_used"), migrations.swappable_dependency(settings.AUTH_USER_MODEL)]

    operations = [
        migrations.CreateModel(
            name="Revision",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("number", models.PositiveIntegerField()),
                ("document", models.JSONField(null=True)),
                ("changes", models.JSONField(default=list)),
                ("what", models.CharField(max_length=300)),
                (
                    "kind",
                    models.CharField(choices=[("change", "change"), ("undo", "undo"), ("redo", "redo")], default="change", max_length=10),
                ),
                ("takes_back", models.PositiveIntegerField(null=True)),
                ("created", models.DateTimeField(auto_now_add=True)),
                ("author", models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, to=settings.AUTH_USER_MODEL)),
                ("owner", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="revisions", to="runs.owner")),
            ],
            options={"ordering": ("-number",)},
        ),
        migrations.AddConstraint(
            model_name="revision", constraint=models.UniqueConstraint(fields=("owner", "number"), name="one_revision_a_number")
        ),
    ]
