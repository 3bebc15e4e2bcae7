"""History moves beside the owner; a revision holds what changed and the whole document now and then; the newest document is
kept with the case. Documents take on layers, acceptance with what was seen, and entries by ids."""

import copy

from django.db import migrations, models

WHOLE_EVERY = 50
ABSENT = {"absent": True}
HOUSE = {"steps": "house", "versions": "house_versions", "revision": "house_revision"}
# {(step, setting): letter}: lists that became maps; the second holds one for each scan.
LISTS = {("follow", "swab"): "s", ("fit", "marks"): "m"}


def by_ids(letter, entries):
    return {f"{letter}{n}": one for n, one in enumerate(entries, 1)} if isinstance(entries, list) else entries


def entries(step, key, value):
    if (step, key) == ("follow", "swab"):
        return by_ids("s", value)
    if (step, key) == ("fit", "marks") and isinstance(value, dict) and value != ABSENT:
        return {piece: by_ids("m", found) for piece, found in value.items()}
    return value


def settings_of(step, values):
    return {key: entries(step, key, value) for key, value in values.items()} if isinstance(values, dict) and values != ABSENT else values


def brought_up(document):
    out = dict(document)
    house = {new: out.pop(old) for new, old in HOUSE.items() if old in out}
    out["layers"] = {"house": {"id": "", "name": "", **house}}
    if isinstance(out.get("accepted", []), list):
        out["accepted"] = {step: {"seen": {}} for step in out.get("accepted", [])}
    out["settings"] = {
        step: {piece: settings_of(step, values) for piece, values in own.items()} for step, own in out.get("settings", {}).items()
    }
    # The forms that were just taken on are those of these versions.
    out["versions"] = {**out.get("versions", {})}
    for step, _ in LISTS:
        if out["versions"].get(step, 5) == 5 and step in out["settings"]:
            out["versions"][step] = 6
    out.setdefault("parts", {})
    return out


def changed(change):
    """One change of a revision, in the new form; acceptance becomes one for each step."""
    path, before, after = change["path"], change.get("before"), change.get("after")
    if path == ["accepted"]:
        was, now = set(before if isinstance(before, list) else []), set(after if isinstance(after, list) else [])
        return [
            {"path": ["accepted", s], "before": ABSENT if s in now else {"seen": {}}, "after": {"seen": {}} if s in now else ABSENT}
            for s in sorted(was ^ now)
        ]
    if len(path) == 4 and path[0] == "settings":
        before, after = entries(path[1], path[3], before), entries(path[1], path[3], after)
    elif len(path) == 3 and path[0] == "settings":
        before, after = settings_of(path[1], before), settings_of(path[1], after)
    return [{"path": path, "before": before, "after": after}]


def applied(document, changes):
    out = copy.deepcopy(document)
    for one in changes:
        at = out
        for part in one["path"][:-1]:
            at = at.setdefault(part, {})
        if one["after"] == ABSENT:
            at.pop(one["path"][-1], None)
        else:
            at[one["path"][-1]] = one["after"]
    return out


def move(apps, schema_editor):
    Case, Old = apps.get_model("cases", "Case"), apps.get_model("cases", "Revision")
    New = apps.get_model("runs", "Revision")
    for case in Case.objects.all():
        before = None
        for row in Old.objects.filter(case=case).order_by("number").iterator(chunk_size=100):
            document = brought_up(row.document)
            changes = [new for old in row.changes for new in changed(old)]
            whole = not changes or before is None or row.number % WHOLE_EVERY == 1 or applied(before, changes) != document
            made = New.objects.create(
                owner_id=case.owner_id, number=row.number, document=document if whole else None, changes=changes, what=row.what,
                kind=row.kind, takes_back=row.takes_back, author_id=row.author_id,
            )
            New.objects.filter(pk=made.pk).update(created=row.created)
            before = document
        # Without solids the assembled body is Base's: it goes on standing on the stage.
        case.last_good |= {f"assemble/{node.split('/')[1]}": key for node, key in case.last_good.items() if node.startswith("base/")}
        case.document = before or {}
        case.save(update_fields=["document", "last_good"])
    with schema_editor.connection.cursor() as cursor:
        # What waited is asked for anew by the worker, under the jobs' new name.
        cursor.execute("DELETE FROM procrastinate_events WHERE job_id IN (SELECT id FROM procrastinate_jobs WHERE task_name = 'work_case')")
        cursor.execute("DELETE FROM procrastinate_jobs WHERE task_name = 'work_case'")


class Migration(migrations.Migration):
    dependencies = [("cases", "0006_summary"), ("runs", "0004_revisions"), ("procrastinate", "__latest__")]

    operations = [
        migrations.AddField("case", "document", models.JSONField(default=dict)),
        migrations.AddField("auditline", "revision", models.PositiveIntegerField(null=True)),
        migrations.RunPython(move, migrations.RunPython.noop),
        migrations.DeleteModel("Revision"),
    ]
