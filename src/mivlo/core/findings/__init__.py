"""What stands out, and the evidence for it. docs/findings.md says how it is found."""

from mivlo.core.findings.along import Along
from mivlo.core.findings.evidence import Evidence
from mivlo.core.findings.finding import METHOD, Finding, Kind
from mivlo.core.findings.search import Search, find

__all__ = ["METHOD", "Along", "Evidence", "Finding", "Kind", "Search", "find"]
