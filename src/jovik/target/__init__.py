"""What a target is and what it hangs on."""

from jovik.target.target import DeviceTarget, FolderTarget, ModelTarget, Target, resolve

__all__ = ["DeviceTarget", "FolderTarget", "ModelTarget", "Target", "resolve"]
