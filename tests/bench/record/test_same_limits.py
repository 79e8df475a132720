"""The command line and a sitting say the same of the same frames."""

import json

import pytest

from yellowjacket.bench.measure import run
from yellowjacket.bench.record.proposals import proposals
from yellowjacket.cli.main import main
from yellowjacket.core.limits.tolerance_file import profile_document

pytestmark = pytest.mark.django_db


@pytest.mark.parametrize("thresholds", [{}, {"grey_snr": [60.0, 45.0, 30.0], "chroma_noise": [1.0, 1.5, 2.0]}])
def test_limits_of_a_folder_are_those_of_the_record(filled, card, tmp_path, capsys, thresholds):
    sitting = filled
    sitting.profile.thresholds = thresholds
    sitting.profile.save()
    ladder = sitting.ladders.get()

    run.start_measuring(sitting)
    profile = tmp_path / "profile.json"
    profile.write_text(json.dumps(profile_document(sitting.profile.criteria)))
    uses = [f"{use.name}={use.whole_frame_pixels}" for use in sitting.uses.all() if use.whole_frame_pixels]
    arguments = [part for use in uses for part in ("--use", use)]
    assert main(["characterise", str(card), "--json", "--profile", str(profile), *arguments]) == 0
    (body,) = json.loads(capsys.readouterr().out)["bodies"]
    assert body["profile"] == sitting.profile.name
    compared = 0
    for one in proposals(ladder):
        name = one.use.name if one.use.whole_frame_pixels else "pixel level"
        told = body["limits"][name][one.level]
        assert (told["mark"], told["at_least"], told["criterion"] or "") == (
            one.measured.mark, one.measured.at_least, one.measured.criterion_key,
        )  # fmt: skip
        for name_, own in (("crossing_iso", "crossing"), ("low", "low"), ("high", "high")):
            value = getattr(one.measured, own)
            assert told[name_] == (None if value is None else pytest.approx(value, rel=1e-9))
        compared += 1
    assert compared == 3 * sitting.uses.count()
