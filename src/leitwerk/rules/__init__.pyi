from .definition import Action as Action
from .definition import Change as Change
from .definition import Escalation as Escalation
from .definition import Rule as Rule
from .definition import Trigger as Trigger
from .schedule import Start as Start
from .schedule import Stop as Stop
from .switches import Switch as Switch
