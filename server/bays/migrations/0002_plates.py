"""What is printed may be a plate of several cases."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("bays", "0001_initial"),
        ("plates", "0001_initial"),
    ]

    operations = [
        migrations.AlterField(
            model_name="print",
            name="case",
            field=models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.CASCADE, related_name="plates_sent", to="cases.case"
            ),
        ),
        migrations.AddField(
            model_name="print",
            name="plate",
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.CASCADE, related_name="prints", to="plates.plate"),
        ),
        migrations.AddConstraint(
            model_name="print",
            constraint=models.CheckConstraint(
                condition=models.Q(("case__isnull", True), ("plate__isnull", True), _connector="XOR"), name="print_of_one"
            ),
        ),
    ]
