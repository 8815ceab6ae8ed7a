from .c_source import write_c as write_c
from .cost import Footprint as Footprint, footprint as footprint, plain_model as plain_model
from .open_graph import write_onnx as write_onnx
from .plain import write_weights as write_weights
from .profile import Device as Device, device_names as device_names, read_device as read_device
from .quantizing import quantize as quantize
from .runtime import on_runtime as on_runtime
from .searching import SearchResult as SearchResult, front as front, read_search as read_search, search as search
from .shrinking import Shrunk as Shrunk, quantize_run as quantize_run, shrink as shrink
