from .loading import load_model as load_model
from .model import Model as Model
from .settings import DecodingSettings as DecodingSettings
