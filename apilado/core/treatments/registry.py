"""Every treatment there is. A new one is a file beside this one and a line here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from apilado.core.parameters import tagged_union
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.bits import Bits
from apilado.core.treatments.cabinet import Cabinet
from apilado.core.treatments.chorus import Chorus
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.delay import Delay
from apilado.core.treatments.drawn_curve import DrawnCurve
from apilado.core.treatments.filter import Filter
from apilado.core.treatments.flanger import Flanger
from apilado.core.treatments.fold import Fold
from apilado.core.treatments.frequency_shift import FrequencyShift
from apilado.core.treatments.gate import GateStep
from apilado.core.treatments.hard_clip import HardClip
from apilado.core.treatments.limiter import PeakLimiter
from apilado.core.treatments.multiband import Multiband
from apilado.core.treatments.offset import Offset
from apilado.core.treatments.phaser import Phaser
from apilado.core.treatments.pitch_shift import PitchShift
from apilado.core.treatments.rectify import Rectify
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.ring import Ring
from apilado.core.treatments.roughness import Roughness
from apilado.core.treatments.saturation import Saturation
from apilado.core.treatments.soft_clip import SoftClip
from apilado.core.treatments.tape import Tape
from apilado.core.treatments.transient import Transient
from apilado.core.treatments.width_bands import WidthBands

TREATMENTS: tuple[type[Treatment], ...] = (
    SoftClip,
    HardClip,
    Saturation,
    Tape,
    Fold,
    Rectify,
    Bits,
    Roughness,
    DrawnCurve,
    Compressor,
    PeakLimiter,
    Multiband,
    GateStep,
    Transient,
    Filter,
    Chorus,
    Flanger,
    Phaser,
    Ring,
    FrequencyShift,
    PitchShift,
    Delay,
    Reverb,
    Offset,
    WidthBands,
    Cabinet,
)

if TYPE_CHECKING:
    AnyTreatment = Treatment
else:
    AnyTreatment = tagged_union(TREATMENTS)
