"""The garden: the demo scenario, whose rules, level and recorded match come with the package."""

from tinclock.garden.foreign import write_foreign_logs as write_foreign_logs
from tinclock.garden.match import simulate_match as simulate_match
from tinclock.garden.played import Played as Played
from tinclock.garden.scenario import Garden as Garden
from tinclock.garden.scenario import data_file as data_file
from tinclock.garden.scenario import load_garden as load_garden
from tinclock.garden.seat import TrueShot as TrueShot
from tinclock.garden.truth import Truth as Truth
from tinclock.garden.truth import read_truth as read_truth
from tinclock.garden.truth import write_truth as write_truth
