"""Model drives: simulated on a virtual clock from stated parameters."""

from jovik.simulator.catalogue import MODEL_PREFIX, ModelDrive, load_model, model_names
from jovik.simulator.io_session import ModelSession

__all__ = ["MODEL_PREFIX", "ModelDrive", "ModelSession", "load_model", "model_names"]
