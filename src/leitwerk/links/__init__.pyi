from .kinds import LinkKind as LinkKind
from .register_session import Session as Session
from .talk import Latest as Latest
from .trace import TraceEntry as TraceEntry
from .trace import Tracer as Tracer
