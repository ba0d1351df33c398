"""What to do where the system does not let Fenko in: exact commands, in one place."""

from __future__ import annotations

RULE_FILE = "/etc/udev/rules.d/60-fenko.rules"
_RELOAD = "sudo udevadm control --reload && sudo udevadm trigger"
UINPUT_RULE = 'KERNEL=="uinput", SUBSYSTEM=="misc", OPTIONS+="static_node=uinput", TAG+="uaccess"'


def _append(rule: str) -> str:
    return f"echo '{rule}' | sudo tee -a {RULE_FILE}"


def uinput_denied() -> list[str]:
    """Commands that let whoever sits at this machine write to /dev/uinput, for good."""
    return [_append(UINPUT_RULE), f"{_RELOAD} --sysname-match=uinput"]


def uinput_missing() -> list[str]:
    """Commands that load the kernel's uinput module now and at every start."""
    return ["sudo modprobe uinput", "echo uinput | sudo tee /etc/modules-load.d/fenko.conf"]


def input_denied(vendor: int, product: int) -> list[str]:
    """Commands that let whoever sits at this machine read this one device, for good.

    Only this device: a rule for all of them would let every program read what is typed."""
    rule = (
        'SUBSYSTEM=="input", KERNEL=="event*", '
        f'ATTRS{{id/vendor}}=="{vendor:04x}", ATTRS{{id/product}}=="{product:04x}", TAG+="uaccess"'
    )
    return [_append(rule), f"{_RELOAD} --subsystem-match=input"]
