from .fitted import Examples as Examples, Fitted as Fitted, Progress as Progress
from .fitting import fit as fit
from .plan import (
    Plan as Plan,
    ThresholdSettings as ThresholdSettings,
    read_plan as read_plan,
    write_plan as write_plan,
)
