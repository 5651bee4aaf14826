"""Every exception that Tin Clock raises at programmers, as one tree; clients never cause one."""

from tinclock.core.errors import AlreadyImportedError as AlreadyImportedError
from tinclock.core.errors import AlreadyKnownError as AlreadyKnownError
from tinclock.core.errors import BadArrayError as BadArrayError
from tinclock.core.errors import BadNameError as BadNameError
from tinclock.core.errors import BadNumberError as BadNumberError
from tinclock.core.errors import BatchError as BatchError
from tinclock.core.errors import CheckpointError as CheckpointError
from tinclock.core.errors import DecisionConflictError as DecisionConflictError
from tinclock.core.errors import EvidenceError as EvidenceError
from tinclock.core.errors import LogError as LogError
from tinclock.core.errors import MeshError as MeshError
from tinclock.core.errors import MissingExtraError as MissingExtraError
from tinclock.core.errors import OutOfHistoryError as OutOfHistoryError
from tinclock.core.errors import ReadOnlyError as ReadOnlyError
from tinclock.core.errors import RecordingError as RecordingError
from tinclock.core.errors import RulesError as RulesError
from tinclock.core.errors import TimeOrderError as TimeOrderError
from tinclock.core.errors import TinClockError as TinClockError
from tinclock.core.errors import UnknownNameError as UnknownNameError
