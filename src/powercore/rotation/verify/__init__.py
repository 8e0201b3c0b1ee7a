"""
Check a rotation against its problem, independently of whatever made it.

First the rules: each broken one is reported by name. Then the physics: the plan is
replayed event by event, without slots, and the minutes off the air, in reserve and
the watt-hours not served are what really comes out.
"""

from powercore.rotation.verify.check import verify
from powercore.rotation.verify.pins import broken_pin
from powercore.rotation.verify.report import Broken, Outcome, Report, Shortfall

__all__ = ["Broken", "Outcome", "Report", "Shortfall", "broken_pin", "verify"]
