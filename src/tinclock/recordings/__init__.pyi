"""Recordings: writing them beside a match, reading them, ruling them again, asking why."""

from tinclock.core.analysis.changes import Changes as Changes
from tinclock.core.analysis.changes import Flip as Flip
from tinclock.core.analysis.changes import changes as changes
from tinclock.core.analysis.choices import Gained as Gained
from tinclock.core.analysis.surroundings import Past as Past
from tinclock.core.analysis.surroundings import Surroundings as Surroundings
from tinclock.core.analysis.surroundings import surroundings_of as surroundings_of
from tinclock.core.analysis.why import Why as Why
from tinclock.core.analysis.why import why as why
from tinclock.intake.settings import undying as undying
from tinclock.intake.settings import with_setting as with_setting
from tinclock.recordings.claimed import Claimed as Claimed
from tinclock.recordings.claimed import choices_in as choices_in
from tinclock.recordings.claimed import claimed_hits as claimed_hits
from tinclock.recordings.layout import Flush as Flush
from tinclock.recordings.layout import Header as Header
from tinclock.recordings.listing import recordings_in as recordings_in
from tinclock.recordings.past import past_of as past_of
from tinclock.recordings.ranges import Ranged as Ranged
from tinclock.recordings.ranges import rerule_range as rerule_range
from tinclock.recordings.recorder import Recorder as Recorder
from tinclock.recordings.recording import EntityPoses as EntityPoses
from tinclock.recordings.recording import Recording as Recording
from tinclock.recordings.replay import Replay as Replay
from tinclock.recordings.replay import rerule as rerule
