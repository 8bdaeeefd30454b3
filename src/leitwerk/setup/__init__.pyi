from .exchanges import ExchangeEntry as ExchangeEntry
from .model import Pulses as Pulses
from .scales import ScaleText as ScaleText
