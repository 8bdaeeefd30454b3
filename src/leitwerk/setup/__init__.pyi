from .scales import ScaleText as ScaleText
