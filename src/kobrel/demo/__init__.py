"""The demos: Night Ferry, a small jetty at dusk, and Paper Harbour, the same harbour as painted layers."""

from pathlib import Path

PLAN = Path(__file__).parent / "night_ferry.kobrel"
HARBOUR = PLAN.with_name("paper_harbour.kobrel")
