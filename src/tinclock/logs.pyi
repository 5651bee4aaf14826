"""Matches that another server logged: reading its files, and ruling them."""

from tinclock.intake.logs.mapping import LogMap as LogMap
from tinclock.intake.logs.mapping import load_log_map as load_log_map
from tinclock.intake.logs.mapping import parse_log_map as parse_log_map
from tinclock.intake.logs.reading import Logs as Logs
from tinclock.intake.logs.reading import read_logs as read_logs
from tinclock.intake.logs.records import LoggedClaim as LoggedClaim
from tinclock.intake.logs.records import LoggedPing as LoggedPing
from tinclock.intake.logs.records import LoggedPlayer as LoggedPlayer
from tinclock.intake.logs.records import LoggedPoses as LoggedPoses
from tinclock.intake.logs.records import LoggedSpawn as LoggedSpawn
from tinclock.recordings.from_logs import FromLogs as FromLogs
from tinclock.recordings.from_logs import record_logs as record_logs
