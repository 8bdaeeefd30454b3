from .formula import Formula as Formula
from .formula import Share as Share
from .functions import FUNCTIONS as FUNCTIONS
from .values import Terms as Terms
