"""What was sent to printers, and what these last said of themselves."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from cases.models import Case
from plates.models import Plate
from runs.models import Worked

# On its way, or at the printer and not ended.
ON_ITS_WAY = ("waiting", "sending")
AT_PRINTER = ("arrived", "printing", "paused", "stopped")


class Bay(models.Model):
    """A printer as it was last heard.

    ident    : of its record on the shelf
    said     : its status (docs/printers.md)
    heard    : when it last answered; silent: since when it does not
    """

    ident = models.CharField(max_length=60, unique=True)
    said = models.JSONField(default=dict)
    heard = models.DateTimeField(null=True)
    silent = models.DateTimeField(null=True)


class Bottle(models.Model):
    """A bottle of resin as the house has it. What is left in it is what it held, less what its prints took.

    resin  : of its record on the shelf; called : what that was called when it came in
    lot    : as it stands on it
    held_ml : what it held when it came in, or by what somebody said since
    bay    : the printer it is in; empty: on the shelf; ended : when it was empty or thrown away
    """

    resin = models.CharField(max_length=60)
    called = models.CharField(max_length=120)
    lot = models.CharField(max_length=60, default="", blank=True)
    held_ml = models.FloatField()
    bay = models.CharField(max_length=60, default="", blank=True)
    added_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    created = models.DateTimeField(auto_now_add=True)
    ended = models.DateTimeField(null=True)

    class Meta:
        ordering = ("id",)
        constraints = (
            models.UniqueConstraint(fields=["bay"], condition=~models.Q(bay="") & models.Q(ended__isnull=True), name="one_bottle_a_bay"),
        )

    @property
    def number(self) -> str:
        return f"B-{self.pk}"

    @property
    def left_ml(self) -> float:
        """Not below nought."""
        took = self.uses.aggregate(ml=models.Sum("ml"))["ml"] or 0.0
        return max(self.held_ml - took, 0.0)


class Print(models.Model):
    """A plate at a printer, or on its way there.

    case    : whose own plate it is; plate : else the plate it is, of several cases
    bay     : the printer's record
    name    : what it is called there
    sent    : digests of the layers it is made of; spec : {plate, printing} as they were: from both the same bytes are made years later
    sha256  : of the file, once it is made
    state   : waiting (for its turn to be sent), sending, arrived (the printer has others first), printing, paused (somebody holds
              it), stopped (the printer waits for somebody), done, cancelled, failed (it can be sent again)
    says    : what is in the way, in a sentence
    resin_ident : of the resin's record; ml_by_layer : what has been used once so many layers are cured, from none to all
    began   : when the printer took it up; takes_s : how long all its layers take (s), once they are made
    """

    case = models.ForeignKey(Case, null=True, on_delete=models.CASCADE, related_name="plates_sent")
    plate = models.ForeignKey(Plate, null=True, on_delete=models.CASCADE, related_name="prints")
    bay = models.CharField(max_length=60)
    printer = models.CharField(max_length=120)
    resin = models.CharField(max_length=120, default="")
    resin_ident = models.CharField(max_length=60, default="", blank=True)
    name = models.CharField(max_length=80, unique=True)
    sent = models.JSONField(default=list)
    spec = models.JSONField(default=dict)
    sha256 = models.CharField(max_length=64, default="")
    bytes = models.BigIntegerField(default=0)
    state = models.CharField(max_length=12, default="waiting", db_index=True)
    says = models.TextField(default="")
    layer = models.PositiveIntegerField(default=0)
    layers = models.PositiveIntegerField(default=0)
    seconds_left = models.FloatField(null=True)
    resin_ml = models.FloatField(default=0.0)
    ml_by_layer = models.JSONField(default=list)
    sent_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    created = models.DateTimeField(auto_now_add=True)
    began = models.DateTimeField(null=True)
    takes_s = models.FloatField(null=True)
    ended = models.DateTimeField(null=True)

    class Meta:
        ordering = ("-created", "-id")
        constraints = (models.CheckConstraint(condition=models.Q(case__isnull=True) ^ models.Q(plate__isnull=True), name="print_of_one"),)

    @property
    def of(self) -> Worked:
        """The case or the plate it is of."""
        found = self.plate or self.case
        assert found is not None  # by its constraint
        return found

    @property
    def number(self) -> str:
        """Of its case; empty for a plate of several."""
        return self.case.number if self.case else ""


class BottleUse(models.Model):
    """What a print took of a bottle: another one where that was changed in the middle. It counts when the print is gone, too.

    since : the layer from which on it was in the printer; ml : of the layers cured since; over : of an earlier try of the same print
    """

    print = models.ForeignKey(Print, null=True, on_delete=models.SET_NULL, related_name="bottles")
    bottle = models.ForeignKey(Bottle, on_delete=models.PROTECT, related_name="uses")
    since = models.PositiveIntegerField(default=0)
    ml = models.FloatField(default=0.0)
    over = models.BooleanField(default=False)

    class Meta:
        ordering = ("id",)
        constraints = (models.UniqueConstraint(fields=["print", "since"], condition=models.Q(over=False), name="one_bottle_a_layer"),)
