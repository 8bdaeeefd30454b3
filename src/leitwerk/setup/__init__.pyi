from .exchanges import ExchangeEntry as ExchangeEntry
from .scales import ScaleText as ScaleText
