"""What is said of a measured value, and why there is none: typed here, and put into words here and nowhere else."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import Enum


class Remark(Enum):
    """Said of a value that is known. The name is the state; the words, with places for details, are for people."""

    IN_WORDS = "{0}"
    FROM_TAG = "from the tag: no frame clips"
    CLIP_SEEN_AT = "the clip point as seen at {0}"
    NOT_DISTINGUISHABLE = "not distinguishable from none"
    NO_GLOW = "no tile glows"
    AT_LEAST_DARKEST_STEP = "at least: the darkest step of the wedge is still above it"
    AT_LEAST_EVERY_STEP = "at least: every step of the wedge"
    AT_LEAST_NOISE_HIDES = "at least: noise hides what lies deeper"
    AT_LEAST_TO_THE_END = "at least: the steps fall to the end of the wedge"
    NEXT_STEP_IN_BLACK = "the next step is not clear of black"
    STRAY_LIGHT = "stray light: darker steps fall no further"
    AT_LEAST_A_CHANNEL = "at least: detail beyond what a channel can show"
    REFERENCE_RUNG = "the reference rung"
    ALL_EQUAL = "all called equal"
    NOT_SIGNIFICANT = "not significant: below {0:.2g} DN"
    NOT_CLEAR_OF_ZERO = "not clear of zero"
    SINGLE_FRAME = "from one frame: its fixed pattern counts as noise, which a second frame would take out"
    BLACK_FROM_TAG = "from the file's tag: no darks, no masked pixels"
    WHERE_NOISE_VANISHES = "where the noise vanishes"
    UPPER_BOUND_CUT_BLACK = "an upper bound: black is cut off at its lowest code"
    AS_FINE_AS_SHOWN = "as fine as the use shows"
    BLACK_FROM_TAG_NO_DARKS = "from the file's tag, no darks"
    ONE_PICTURE = "one picture only, from neighbours, which a converter makes alike: at least this much"
    TOLD_BY_ONE_CHANNEL = "based on one channel or on the darks alone"
    TOLD_BY_DARKS = "based on the darks alone"
    UPPER_BOUND_ROUNDING = "an upper bound: rounding to whole numbers hides the rest"
    ROUNDING = "limited by rounding"
    WITH_OUTLIERS = "with outliers {0:.2f} DN"
    LIGHT_CHANGED_A_LITTLE = "light changed by {0:+.2f} stop"
    FITTED_BELOW_70 = "fitted below 70 % of saturation, where the line holds"
    SCATTER = "the points scatter more than their noise explains (χ²/dof {0:.1f})"
    USUAL_DOUBLING = "with the usual doubling every {0:g} °C"
    AS_WHITE = "the patch is small: beyond {0:.3g} raw px to an output px the noise is taken as white"
    TOWARDS = "towards {0}"
    NO_DETAIL = "no detail clear of noise"
    SMOOTHED = "the raw is smoothed: noise and range read too good"
    BANDS_EVERY = "every {0:.3g} lines"
    BANDS_WIDE = "bands about {0:.2g} lines wide"
    BEFORE_SMOOTHING = "the raw is smoothed: about {0:.3g} before that"
    LIMITED_BY = "limited by {0}"
    PAST_THE_LONGEST_DARK = "past the longest dark that was shot"
    PREDICTED = "predicted from frames without it"
    OVER_THE_DARK = "over the noise of the dark alone: no gain is known"
    NOTHING_FAILS = "at least: nothing fails in any night"
    LADDER_ENDS = "at least: the ladder ends here"
    # What ends a limit: a criterion (key, label), a highlight in a channel.
    CRITERION_FAILS = "{1}"
    HIGHLIGHT_CLIPS = "highlight clips in {0}"
    BETWEEN = "between ISO {0} and {1}"
    EXTRAPOLATED = "extrapolated by {0:.1f} stop from ISO {1}"
    WITHOUT_DARK_SIGNAL = "without dark signal: no darks of this body were measured"
    SMOOTHED_THERE = "the raw is smoothed there: noise reads too good"
    # How a setting uses its codes.
    CODES_DOUBLED = "codes are doubled: divided after the converter"
    CODES_MISSING = "codes are missing: multiplied after the converter"
    CODES_EMPTY_TOO = "codes are empty on the lowest rung too: the bit depth of this mode"
    CODES_EMPTY_LOWEST = "codes are empty on the lowest rung: the bit depth of this mode"
    CODES_THIN_OUT = "codes thin out with the signal: a coding table"
    # Why range by the model and range on a wedge differ.
    RANGE_OF_SMOOTHING = (
        "of {0:.1f} stops {1:.1f} ({2:.1f} to {3:.1f}) are smoothing of the raw: without it {4:.1f} are left"
    )
    WEDGE_BEGINS_UNDER = "the wedge begins {0:.1f} stops under saturation, which is counted in"
    WEDGE_AGREES = "model and wedge agree"
    WEDGE_ENDS_FIRST = "the wedge ends before its noise does: it has at least so much"
    WEDGE_IN_STRAY_LIGHT = (
        "stray light holds the wedge's dark steps up from {0:.1f} stops on: lens and scene, not the sensor"
    )
    WEDGE_THROUGH_LENS = (
        "the wedge shows {0:.1f} stops {1}: it is read through the lens, in steps, on green alone; the model is the sensor by "
        "itself"
    )
    # Why a setting is to be avoided, or preferred.
    IS_SECOND_BASE = "a second base ISO: cleaner shadows than one mark lower"
    LIES_UNDER_BASE = "just under the second base ISO {0}"
    MADE_BY_ARITHMETIC = "made by arithmetic: {0}"
    RAW_IS_SMOOTHED = "the raw is smoothed here"
    HOLDS_NO_MORE = "holds no more light than ISO {0}"
    # Habits of a setting, as cells of the sheet show them.
    SECOND_BASE = "second base"
    UNDER_BASE = "under base"
    DIGITAL = "digital"
    SMOOTHED_HERE = "smoothed"
    LOW_EXTENDED = "low extended"


class Missing(Enum):
    """Why there is no value. The name is the state; the words, with places for details, are for people."""

    NOT_MEASURED = "not measured"
    NOT_MEASURED_YET = "not measured yet"
    NO_LIGHT_FRAMES_OF_ISO = "no light frames of ISO {0} were measured on this body"
    ANOTHER_SIZE = "frames of another size"
    NO_RUNGS = "no rungs"
    NO_RAW_FRAME_OF_IT = "not measured: no raw frame belongs to it"
    NO_DARK_PAIR = "no dark pair"
    NO_HIGHLIGHT_PATCH = (
        "no highlight patch: draw one on the Measure page, on the brightest part that must keep its shape"
    )
    NO_TEXTURE = "no texture: mark one on the Measure page"
    NO_NEUTRAL_READING = "the neutral patch has no reading here"
    GREY_CHANNEL_DARK = "a channel of the grey patch has no signal above black"
    NO_COLOUR_PATCH = "fewer than three colours: lay a grid over colour patches"
    FEW_DARK_TIMES = "darks of at least {0} exposure times are needed"
    DARK_SIGNAL_SMALL = "the dark signal is too small to tell the gain: add light frames of this ISO"
    FEW_TEMPERATURES = "dark current clear of zero at two temperatures is needed"
    NO_GROWTH_WITH_TEMPERATURE = "dark current does not grow with the temperatures given: check them"
    NOT_TOLD = "cannot be stated"
    ONE_DARK_NOISE = "one dark alone: its noise needs a second one"
    EQUAL_DARKS = "both darks are equal"
    ONE_DARK_BANDS = "one dark alone: bands need a second one"
    NO_HOT_PIXEL_TO_FIND = "no hot pixel to look for"
    NO_HOT_PIXEL_TO_REMOVE = "no hot pixel to remove"
    DARK_TEMPERATURE_UNKNOWN = "the temperature of these darks is not known"
    FEW_DARKS_FOR_HOT_PIXELS = "finding hot pixels needs two or more darks of one time"
    GAIN_UNKNOWN_OF_DARKS = "no gain is known: measure light frames of this ISO, or more times"
    NO_LIGHT_FRAMES_MEASURED = "no light frames of this ISO were measured"
    TEMPERATURES_TOO_CLOSE = "the darks differ by less than {0:g} °C: shoot the ladder warmer or cooler as well"
    FEW_TIMES_OR_TEMPERATURES = "darks of at least four times or temperatures are needed"
    TEMPERATURES_DO_NOT_SETTLE = (
        "these temperatures do not settle it: shoot the ladder clearly warmer or cooler as well"
    )
    NO_DARK_CURRENT = "no dark current above zero was measured"
    TEMPERATURE_TO_ENTER = (
        "the temperature of the darks is not known: enter it, or import a CSV of file and temperature"
    )
    TIMES_FOLLOW_TEMPERATURES = "times and temperatures go together: shoot some times both warm and cool"
    SENSOR_SIZE_UNKNOWN = "the size of the sensor is not in the register"
    FEW_HOT_PIXEL_TIMES = "hot pixels at three or more exposure times are needed"
    FEW_WEDGE_STEPS = "a wedge of at least {0} steps is needed: lay a grid over it and call it a wedge"
    LIGHTEST_STEP_TOO_NOISY = "the lightest step has no SNR of {0:g}"
    TEXTURE_TOO_NARROW = "the textured patch has {0} pixels of a channel along its short side: make it {1}"
    CONSTANT_FRAMES = "both frames are constant here"
    GRAIN_TOO_WIDE = "grain wider than {0} output pixels: cannot be told apart in so small a patch"
    FEW_ANSWERS = "at least {0} answers are needed"
    FEW_GRADES = "not enough grades: {0} of at least {1}"
    LINE_OUTSIDE = "not enough grades: {0} was accepted, so the limit lies outside what was shown"
    NO_REPEATS = "no picture was shown twice"
    FEW_COMMON_GRADES = "two people must have graded at least two of the same rungs"
    ONE_GRADE_THROUGHOUT = "both gave the same grade throughout: agreement cannot be told from chance"
    NO_GREY_PATCH = "no grey patch"
    GREY_DARK = "the grey patch has no signal"
    NO_CLIP_POINT = "no clip point"
    CLIPPED = "clipped"
    CLIPS_EVERYWHERE = "it clips on every rung, or was never read"
    FIT_NOT_FINITE = "the fit gave no finite result"
    NO_BRIGHT_PATCH = "no patch is bright enough here"
    NO_USABLE_PATCH = "every patch clips here or is lost in noise"
    EVERY_PUSH_COSTS = "no rung: every push costs more than allowed"
    READ_NOISE_UNKNOWN = "the read noise is not known"
    SATURATION_UNKNOWN = "saturation is not known"
    RUNG_WITHOUT_MODEL = "a rung has no noise model: measure every ISO with darks"
    COST_UNDECIDED = "undecided: the cost from ISO {0} lies on either side of the bar"
    NO_UNCLIPPED_READING = "no unclipped reading of this patch"
    GAIN_UNKNOWN = "the gain is not known"
    NO_SATURATION_OF_BODY = "no ISO of this body has a saturation"
    NOISIER_THAN_ALL = "noisier than the other's highest rung, ISO {0}"
    OTHER_BODY_FEW_RUNGS = "the other body has fewer than two measured rungs"
    CLEANER_THAN_ALL = "cleaner than the other's lowest rung, ISO {0}"
    FEW_VERDICTS = "{0} of at least {1} verdicts"
    ONE_SHIFT = "all at one shift: slide the other body and judge again"
    BETTER_AT_EVERY_SHIFT = "the {0} is better at every shift judged so far: slide further"
    VERDICTS_WITHOUT_TREND = "the verdicts do not follow the shift: judge more pairs"
    NOT_FINITE = "the numbers gave no finite result"
    TOO_UNCERTAIN = "too uncertain to state: its error is several times its value"
    NO_CHANNEL = "not measured in any channel"
    NOTHING_TO_DIVIDE_BY = "nothing to divide by"
    FEW_LINES = "fewer than {0} lines to compare"
    DARK_PATTERN_NEEDED = "the fixed pattern of the darks is needed: shoot a dark pair"
    FEW_BRIGHT_PATCHES = "{0} bright uniform patches; at least {1} are needed"
    TOO_NOISY_FOR_PRNU = "too noisy here to tell response from structure of the scene: take it from a lower ISO"
    NO_PAIR_FOR_NEIGHBOURS = "no pair to compare neighbours in"
    NO_RANGE = "a range is missing"
    NO_CORRELATION = "the correlation of neighbours is missing"
    NO_SIGNAL = "no signal clear of black"
    WHITE_UNSAID = "the file names no plausible white level, and no frame clips"
    BLACK_UNSAID = "the file names no plausible black level: shoot darks of this ISO"
    NO_FRAME = "no frame"
    NEVER_REACHED = "no light frame reaches it: expose one until it clips"
    NO_LIGHT_FRAME = "no light frame"
    NO_SECOND_BASE = "read noise gives no sign of one"
    FEW_HONEST_SETTINGS = "fewer than two honest ISO settings with read noise and gain"
    NO_PART = "a part is missing"
    NO_PART_OF_MODEL = "a part of the noise model is missing"
    NO_PHOTON_NOISE = "noise does not rise with signal: these frames do not follow photon noise"
    INTERCEPT_NOT_CLEAR = "the intercept is not clear of zero: shoot a dark pair for the read noise"
    BATTERY_DROP_TOO_SMALL = "note the level again after a drop of {0:g} % or more"
    BLACK_NOT_CUT = "black is not cut off"
    BLACK_CUT_AT_MIDDLE = "black is cut off at its middle: nothing can be said of the noise"
    NOT_ON_REFERENCE = "not measured on the reference rung"
    REFERENCE_WITHOUT_DETAIL = "the reference rung shows no detail here"
    NO_COLOUR_FILTERS = "this sensor has no colour filters, so it sees no colour"
    CAMERA_PICTURE = "this is the camera's own picture: no number of its sensor is left in it"
    DEMOSAICED = "the file holds interpolated samples, not pixels: noise is read at output sizes only"
    TEXTURE_CHANNEL_DARK = "a channel of the textured patch has no signal above black"
    PATCH_OUTSIDE = "the patch lies outside this frame: move it"
    GREY_DARK_SETS_BALANCE = "the grey patch has no signal: it sets brightness and white balance"
    NO_FRAME_YET = "no frame of this rung yet"
    NO_SHADOW_PATCH = "no shadow patch: draw one about three stops under the grey"
    GREY_NOT_MEASURED = "the grey patch could not be measured on this rung"
    NO_NOISE_MODEL = "the noise model is missing: {0}"
    SHADOW_DARK = "no signal above black in the shadow patch"
    GREY_PATCH_TO_DRAW = "no grey patch: draw one"
    GREY_NOT_READ = "the grey patch could not be read on this rung"
    NO_UNIFORM_PATCH = "no uniform patch lies on these pictures"
    NO_TEXTURE_ON_PICTURES = "no texture lies on these pictures: mark one on the Measure page"
    TEXTURE_TOO_SMALL = "the texture is too small for detail: draw it larger"
    TEXTURE_DROWNED = "noise drowns the texture already as is"
    NO_LIGHT_FRAMES_AT_ISO = "no light frames at this ISO"
    FEW_SETTINGS_WITH_MODEL = "fewer than two ISO settings have a noise model"
    NO_LIGHT_AREA = "no light area to pull back"
    PATCH_TOO_SMALL = "the patch has {0} pixels of this channel, at least {1} are needed"
    ONE_FRAME_COPIED = "both frames hold the same numbers: one frame copied, not a pair"
    NOISE_CUT_AT_ZERO = "noise is cut off at code 0, so it would read too low"
    LIGHT_CHANGED = "the light changed by {0:+.2f} stop between the two frames: no pair"
    LESS_THAN_PRNU = "less than the known spread of response"
    FEW_PATCHES_FOR_FIT = "{0} usable patches; the fit of noise against signal needs more"
    EQUALLY_BRIGHT = "all patches are equally bright and there is no dark pair: shoot darks or add patches"
    NO_GREY_READING = "no grey patch reading on this rung or the reference rung"
    NO_ISO_WITH_MODEL = "no ISO of this body has gain and read noise"
    GAIN_CHANGES_BETWEEN = "the body changes its gain somewhere between ISO {0} and {1}: it has to be measured there"
    NO_CLEAN_FRAME = "no raw frame of its correctly exposed base ISO is there"
    OTHER_LAYOUT = "the clean frame has another colour-filter layout than that body"
    MORE_LIGHT_THAN_CLEAN = "it needs {0:.1f} stops more light than the clean frame has: use one of a lower ISO"
    CLEANER_THAN_CLEAN = "the clean frame has more read noise than this setting: use one of base ISO"
    NOT_A_MOSAIC = "the clean frame was demosaiced or rendered: its pixels have no noise of their own"
    CLEAN_WITHOUT_ISO = "the clean frame does not say its ISO"
    BODY_NOT_CHARACTERISED = "{0} is not among the bodies that were characterised"
    NO_DARKS_FOR_TIME = "no long darks of this body were measured"
    NO_TEMPERATURE_OF_DARKS = "the darks of this body were taken at no known temperature"
    BEYOND_MEASURED = "{0:.1f} stops beyond ISO {1}, the last that was measured"
    OVER_AT_ONCE = "already over the limit at 1/8 s"
    GAIN_FROM_THE_SAME_NOISE = "the gain was derived from this noise: light frames at this ISO would separate the two"
    NOT_KNOWN_YET = "not known yet: shoot darks between {0} and {1}"
    NO_CRITERION = "the profile asks for nothing of long exposures"
    ONE_DARK_TIME = "darks of two or more exposure times are needed"
    PATCH_UNDER = "the patch is under {0} px: make it larger"
    PATCH_OUTSIDE_PICTURE = "patch “{0}” is outside this picture of {1} × {2} px or under {3} px a side: move it"
    PATCH_OUTSIDE_FRAME = "patch “{0}” lies outside this frame of {1} × {2} px: move it"
    TOO_DARK = "too dark to tell"
    TOO_LIGHT = "too light to tell: the picture clips"
    FEW_PATCHES_ON_CORRECT = "{0} patches can be read on the correct frame; at least {1} are needed"
    ONE_RUNG = "a ladder of at least two rungs is needed"
    NO_CODES_COUNTED = "no codes were counted"
    FEW_CODES = "only {0} codes are full enough to tell"
    NOTHING_MEASURED = "nothing measured yet"
    JUDGED_BY_EYE = "camera pictures are judged by eye"
    FAILS_ON_LOWEST = "{0} fails on the lowest rung already"
    FAILS_ON_FIRST = "{0} fails on the first rung already"
    CRITERION_WITHOUT_READINGS = "{0} has no readings: {1}"
    NO_READING_AT = "no reading at {0}"
    EXPOSED_OFF = (
        "{0} was exposed {1:+.1f} stops off the plan: it does not decide, unless Check is told that it is right"
    )
    NOT_GRADED = "not graded yet"
    NOT_GRADED_AT = "not graded at ISO {0}"
    LOWEST_GRADED_WORSE = "the lowest graded rung is worse already"
    CLIPS_AT_CORRECT = "it clips at the correct exposure already"
    NO_EXPOSURE_LADDER = "no exposure ladder: three exposure times and more at one ISO, two frames each"
    NO_COMMON_TILES = "too little of the picture is whole in both modes"
    BOUNDS_ONLY = "as much as a picture of so many pixels can show, and perhaps more"
    NO_EDGES = "too little of the picture has structure clear of noise"
    NO_PAIR = "one frame only: shoot a second frame of this rung, or import it, to measure noise"


# Remarks of values that are bounds only: what was looked with ended first.
LOWER_BOUNDS = (
    Remark.AT_LEAST_A_CHANNEL, Remark.AT_LEAST_DARKEST_STEP, Remark.AT_LEAST_EVERY_STEP, Remark.AT_LEAST_NOISE_HIDES,
    Remark.AT_LEAST_TO_THE_END, Remark.AS_FINE_AS_SHOWN, Remark.NOTHING_FAILS, Remark.LADDER_ENDS,
)  # fmt: skip
UPPER_BOUNDS = (Remark.UPPER_BOUND_ROUNDING, Remark.UPPER_BOUND_CUT_BLACK)


# Python writes a minus as a hyphen.
_HYPHEN_AS_SIGN = re.compile(r"(?<!\S)-(?=\d)")


@dataclass(frozen=True, slots=True)
class Note:
    """A remark or a reason, with what its words leave open: numbers and names."""

    kind: Remark | Missing
    details: tuple[str | float, ...] = ()

    def __str__(self) -> str:
        return _HYPHEN_AS_SIGN.sub("−", self.kind.value.format(*self.details))

    @property
    def plain(self) -> list[str | float]:
        """As records and archives keep it: the name, then the details."""
        return [self.kind.name, *self.details]

    @classmethod
    def from_plain(cls, plain: Sequence[str | float] | str) -> Note:
        """A note as it was kept; of mere words, as older records have them, those without details are known again.

        Raises ValueError for an unknown name, and for details that its words have no use for or lack.
        """
        if isinstance(plain, str):
            kind = _BY_WORDS.get(plain)
            return cls(kind) if kind else cls(Remark.IN_WORDS, (plain,))
        try:
            note = cls(_BY_NAME[str(plain[0])], tuple(plain[1:]))
            str(note)
        except (LookupError, TypeError, ValueError) as error:
            raise ValueError("is not a remark this version knows") from error
        return note


_BY_NAME: dict[str, Remark | Missing] = {one.name: one for kinds in (Remark, Missing) for one in kinds}
# As records from before notes were typed have it, where the words have changed since.
_FORMERLY: dict[str, Remark | Missing] = {
    "told by one channel or by the darks alone": Remark.TOLD_BY_ONE_CHANNEL,
    "told by the darks alone": Remark.TOLD_BY_DARKS,
    "not told": Missing.NOT_TOLD,
    "hot pixels are told from two darks of a time or more": Missing.FEW_DARKS_FOR_HOT_PIXELS,
    "two people must have graded two rungs in common at least": Missing.FEW_COMMON_GRADES,
    "both gave the same grade throughout: agreement cannot be told from habit": Missing.ONE_GRADE_THROUGHOUT,
    "hot pixels at three exposure times at least are needed": Missing.FEW_HOT_PIXEL_TIMES,
    "darks of two exposure times at least are needed": Missing.ONE_DARK_TIME,
    "the gain was told from this noise: light frames of this ISO would tell it apart": Missing.GAIN_FROM_THE_SAME_NOISE,
    "the file names no white level that could be, and no frame clips": Missing.WHITE_UNSAID,
    "the file names no black level that could be: shoot darks of this ISO": Missing.BLACK_UNSAID,
}
_BY_WORDS = {one.value: one for one in _BY_NAME.values() if "{" not in one.value} | _FORMERLY


def in_words(notes: Iterable[Note], between: str = "; ") -> str:
    """All notes as one text; empty when there are none."""
    return between.join(map(str, notes))
