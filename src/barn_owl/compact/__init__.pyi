from .c_source import write_c as write_c
