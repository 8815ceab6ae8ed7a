from .loading import as_model as as_model, load_model as load_model
from .model import Model as Model
from .settings import DecodingSettings as DecodingSettings, as_decoding as as_decoding
from .trained_on import learned_from as learned_from
