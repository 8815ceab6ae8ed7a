from .classifier import RowsClassifier as RowsClassifier
from .features import FrameFeatures as FrameFeatures, PooledFeatures as PooledFeatures
