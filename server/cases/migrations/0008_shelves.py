"""What was typed as purpose or practice becomes a record on the shelf of the house; cases keep the words."""

from django.db import migrations

KEYS = ("purpose", "practice")
# Those that ship: a purpose of that name needs no record.
SHIPPED = {"study model", "working model", "splint", "mouthguard model"}


def gather(apps, schema_editor):
    Case, Record = apps.get_model("cases", "Case"), apps.get_model("house", "ShelfRecord")
    for key in KEYS:
        known = {}
        for document in Case.objects.values_list("document", flat=True):
            name = str(document.get(key) or "").strip()[:120]
            if name and not (key == "purpose" and name.lower() in SHIPPED):
                known.setdefault(name.lower(), name)
        for number, (_, name) in enumerate(sorted(known.items()), 1):
            Record.objects.create(shelf=key, ident=f"{key}-{number}", revision=1, name=name)


class Migration(migrations.Migration):
    dependencies = [("cases", "0007_sheets"), ("house", "0004_shelves")]

    operations = [migrations.RunPython(gather, migrations.RunPython.noop)]
