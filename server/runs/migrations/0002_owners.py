"""Owners: whom results and blobs are kept for, and which blobs each result names."""

import django.db.models.deletion
from django.db import migrations, models


def digests(refs):
    for ref in refs:
        if isinstance(ref, dict):
            yield from (ref[kind] for kind in ("mesh", "file") if isinstance(ref.get(kind), str) and len(ref[kind]) == 64)
            yield from digests((ref.get("by_piece") or {}).values())


def drop_failures_of_the_surroundings(apps, schema_editor):
    """Kept by mistake as what a scan gives: they are worked out again."""
    Result = apps.get_model("runs", "Result")
    for code in ("broke-down", "memory"):
        Result.objects.filter(manifest__flags__contains=[{"code": code}]).delete()


def name_blobs(apps, schema_editor):
    Result, ResultBlob = apps.get_model("runs", "Result"), apps.get_model("runs", "ResultBlob")
    for row in Result.objects.iterator():
        found = set(digests((row.manifest.get("values") or {}).values()))
        ResultBlob.objects.bulk_create([ResultBlob(result_id=row.key, sha256=d) for d in sorted(found)], ignore_conflicts=True)


class Migration(migrations.Migration):
    dependencies = [("runs", "0001_initial")]

    operations = [
        migrations.CreateModel(
            name="Owner",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("counted", models.BooleanField(default=True)),
            ],
        ),
        migrations.CreateModel(
            name="BlobUse",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("sha256", models.CharField(db_index=True, max_length=64)),
                ("owner", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="files", to="runs.owner")),
            ],
            options={"constraints": [models.UniqueConstraint(fields=("owner", "sha256"), name="one_blob_use")]},
        ),
        migrations.CreateModel(
            name="ResultBlob",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("sha256", models.CharField(db_index=True, max_length=64)),
                ("result", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="blobs", to="runs.result")),
            ],
            options={"constraints": [models.UniqueConstraint(fields=("result", "sha256"), name="one_result_blob")]},
        ),
        migrations.CreateModel(
            name="ResultUse",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("owner", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="results", to="runs.owner")),
                ("result", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="uses", to="runs.result")),
            ],
            options={"constraints": [models.UniqueConstraint(fields=("owner", "result"), name="one_result_use")]},
        ),
        migrations.RunPython(drop_failures_of_the_surroundings, migrations.RunPython.noop),
        migrations.RunPython(name_blobs, migrations.RunPython.noop),
    ]
