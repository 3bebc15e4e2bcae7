"""What was sent to printers, and what these last said of themselves."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from cases.models import Case
from plates.models import Plate
from runs.models import Worked

# On its way, or at the printer and not ended.
ON_ITS_WAY = ("waiting", "sending")
AT_PRINTER = ("arrived", "printing", "stopped")


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


class Print(models.Model):
    """A plate at a printer, or on its way there.

    case    : whose own plate it is; plate : else the plate it is, of several cases
    bay     : the printer's record
    name    : what it is called there
    sent    : digests of the layers it is made of; spec : {plate, printing} as they were: from both the same bytes are made years later
    sha256  : of the file, once it is made
    state   : waiting (for its turn to be sent), sending, arrived (the printer has others first), printing, stopped (the printer waits
              for somebody), done, cancelled, failed (it can be sent again)
    says    : what is in the way, in a sentence
    began   : when the printer took it up; takes_s : how long all its layers take (s), once they are made
    """

    case = models.ForeignKey(Case, null=True, on_delete=models.CASCADE, related_name="plates_sent")
    plate = models.ForeignKey(Plate, null=True, on_delete=models.CASCADE, related_name="prints")
    bay = models.CharField(max_length=60)
    printer = models.CharField(max_length=120)
    resin = models.CharField(max_length=120, default="")
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
