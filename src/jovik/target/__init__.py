"""What a target is and what it hangs on."""

from jovik.target.target import FolderTarget, ModelTarget, Target, resolve

__all__ = ["FolderTarget", "ModelTarget", "Target", "resolve"]
