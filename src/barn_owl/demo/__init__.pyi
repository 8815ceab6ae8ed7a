from .scenario import (
    Quay as Quay,
    write_quay as write_quay,
)
