"""How Numba compiles what only kernels call: up to where machine code would be made of it, which nobody would run.

A part is optimised and made into machine code within each kernel that calls it, and nowhere else: a sixth of the time
that compiling takes. Where a Numba has other insides than those that this builds on, `PARTS` is empty, and parts are
compiled like everything else.
"""

from __future__ import annotations

from contextlib import suppress
from typing import Any

PARTS: dict[str, Any] = {}
"""Options of `numba.njit` for parts."""


class _NoEnvironment:
    """A code generator, to whom nobody can say where a part's Python objects lie: it has none."""

    def __init__(self, codegen: Any) -> None:
        self._codegen = codegen

    def __getattr__(self, name: str) -> Any:
        return getattr(self._codegen, name)

    def set_env(self, name: str, environment: Any) -> None:
        """Do nothing."""


def _compiler() -> Any:
    from numba.core.codegen import JITCodeLibrary
    from numba.core.compiler import CompilerBase, DefaultPassBuilder
    from numba.core.compiler_machinery import AnalysisPass, register_pass
    from numba.core.typed_passes import AnnotateTypes

    for name in ("_finalize_final_module", "_finalize_dynamic_globals", "_verify_declare_only_symbols"):
        getattr(JITCodeLibrary, name)

    class Part(JITCodeLibrary):  # type: ignore[misc]
        """A part's code, which other code takes in."""

        @property
        def codegen(self) -> Any:
            """What makes code."""
            return _NoEnvironment(self._codegen)

        def get_pointer_to_function(self, name: str) -> int:
            """Nothing."""
            return 0

        def _optimize_final_module(self) -> None:
            """Leave it to the kernels."""

        def _finalize_final_module(self) -> None:
            """What Numba does, but for machine code."""
            self._finalize_dynamic_globals()
            self._verify_declare_only_symbols()
            self._finalized = True

    @register_pass(mutates_CFG=False, analysis_only=True)
    class TakeAsPart(AnalysisPass):  # type: ignore[misc]
        """Has what follows write into a `Part`."""

        _name = "take_as_part"

        def __init__(self) -> None:
            AnalysisPass.__init__(self)

        def run_pass(self, state: Any) -> bool:
            state.library = Part(state.targetctx.codegen(), state.func_id.func_qualname)
            return False

    class Parts(CompilerBase):  # type: ignore[misc]
        """Numba's own passes, and that one."""

        def define_pipelines(self) -> list[Any]:
            passes = DefaultPassBuilder.define_nopython_pipeline(self.state)
            passes.add_pass_after(TakeAsPart, AnnotateTypes)
            passes.finalize()
            return [passes]

    return Parts


with suppress(ImportError, AttributeError):
    PARTS["pipeline_class"] = _compiler()
