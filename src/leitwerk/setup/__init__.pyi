from .calibration import AsFoundPoints as AsFoundPoints
from .calibration import Calibration as Calibration
from .exchanges import ExchangeEntry as ExchangeEntry
from .model import Pulses as Pulses
from .scales import ScaleText as ScaleText
from .template import ParameterValues as ParameterValues
from .template import TemplateFile as TemplateFile
