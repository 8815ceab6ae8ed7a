from .model import (
    Model as Model,
    load_model as load_model,
)
from .settings import DecisionSettings as DecisionSettings
