"""Where the hinge axis lies on average, and what else is taken for average; all from memory, without a source at hand.

The triangle of both condyles and the incisal point has equal sides (Bonwill: 4 inches, 101.6 mm; 100 to 110 mm are found); its plane
goes up from the occlusal plane to the condyles (Balkwill: 25°, 22 to 27). Condyles go down by 33° as they go forward (30 to 40, against the
occlusal plane), and inwards by 15° where one goes alone (Bennett: 7 to 15).
"""

from __future__ import annotations

import numpy as np

SIDE_MM, BALKWILL_DEG = 101.6, 25.0
PATH_DEG, BENNETT_DEG = 33.0, 15.0
_AWAY_MM = SIDE_MM * np.cos(np.radians(30.0))
# Of the axis, from the incisal point, along the occlusal plane and square to it.
BACK_MM = round(float(_AWAY_MM * np.cos(np.radians(BALKWILL_DEG))), 1)
UP_MM = round(float(_AWAY_MM * np.sin(np.radians(BALKWILL_DEG))), 1)
