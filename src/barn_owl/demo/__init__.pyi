from .scenario import Harbor as Harbor, write_harbor as write_harbor
