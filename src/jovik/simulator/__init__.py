"""Model drives: simulated on a virtual clock from stated parameters, so that a known truth can be measured."""

from jovik.simulator.catalogue import MODEL_PREFIX, ModelDrive, load_model, model_names
from jovik.simulator.session import ModelSession

__all__ = ["MODEL_PREFIX", "ModelDrive", "ModelSession", "load_model", "model_names"]
