"""What was sent is kept with the print: it can be printed again as it was."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("bays", "0002_plates")]

    operations = [migrations.AddField(model_name="print", name="spec", field=models.JSONField(default=dict))]
