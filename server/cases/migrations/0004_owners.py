"""Every case gets an owner with its scans; texts of the history name scans by tokens; blobs are counted by owners alone."""

import re

import django.db.models.deletion
from django.db import migrations, models

FORMS = re.compile(r"(Took back: |Did again: )*(Case opened with |Added |Put aside: |.* instead of |.* kept beside$)")


def tokened(what, pieces):
    """The same words with scans by their tokens, where they name any."""
    if not FORMS.match(what):
        return what
    for piece in sorted(pieces, key=lambda p: -len(p["file"])):
        what = what.replace(piece["file"], f"⟦{piece['id']}⟧")
    # A name that was cut off at the end is left out.
    return re.sub(r", [^⟦⟧]*$", " and more", what) if len(what) and "⟦" in what and "," in what and not what.endswith(("⟧", "beside")) else what


def own(apps, schema_editor):
    Case, Revision = apps.get_model("cases", "Case"), apps.get_model("cases", "Revision")
    Owner, BlobUse = apps.get_model("runs", "Owner"), apps.get_model("runs", "BlobUse")
    for case in Case.objects.all():
        owner = Owner.objects.create(counted=False)
        pieces = {}
        for row in Revision.objects.filter(case=case).order_by("number"):
            pieces |= {piece["id"]: piece for piece in row.document.get("pieces", [])}
        digests = {piece["sha256"] for piece in pieces.values()}
        for row in Revision.objects.filter(case=case).only("document"):
            digests |= {piece["sha256"] for piece in row.document.get("pieces", [])}
        BlobUse.objects.bulk_create([BlobUse(owner=owner, sha256=d) for d in sorted(digests)])
        case.owner = owner
        case.save(update_fields=["owner"])
        for row in Revision.objects.filter(case=case).only("what"):
            what = tokened(row.what, pieces.values())
            if what != row.what:
                Revision.objects.filter(pk=row.pk).update(what=what[:300])


class Migration(migrations.Migration):
    dependencies = [("cases", "0003_prints"), ("runs", "0002_owners")]

    operations = [
        migrations.AddField("case", "owner", models.OneToOneField(null=True, on_delete=django.db.models.deletion.PROTECT, to="runs.owner")),
        migrations.AddField("case", "wanted", models.DateTimeField(null=True)),
        migrations.AddField("case", "retry", models.DateTimeField(null=True)),
        migrations.AddField("case", "retries", models.PositiveSmallIntegerField(default=0)),
        migrations.AlterField("auditline", "case_number", models.CharField(db_index=True, default="", max_length=20)),
        migrations.RemoveField("scanprint", "file"),
        migrations.DeleteModel("Blob"),
        migrations.RunPython(own, migrations.RunPython.noop),
    ]
