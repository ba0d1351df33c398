"""The parts of Wayland's protocols that Fenko speaks: requests (`>`) and events (`<`) of each interface in the order of the
protocol's XML, which is what numbers them, as far as the last one that is used.

Arguments: `int`, `uint`, `fixed`, `string`, `object`, `array`, `fd`, `new INTERFACE`; `name` is a string that may be absent, and
`any` the three arguments of an object whose interface the request says itself. Sources: wayland.xml, xdg-shell,
wlr-foreign-toplevel-management-unstable-v1 (3), virtual-keyboard-unstable-v1, wlr-virtual-pointer-unstable-v1 (2),
wlr-layer-shell-unstable-v1 (3), wlr-data-control-unstable-v1 (2),
keyboard-shortcuts-inhibit-unstable-v1, org_kde_kwin_fake_input (4) and org_kde_kwin_keystate (1).
"""

from __future__ import annotations

from typing import NamedTuple

TABLES = """
wl_display
> sync new wl_callback
> get_registry new wl_registry
< error object uint string
< delete_id uint

wl_registry
> bind uint any
< global uint string uint
< global_remove uint

wl_callback
< done uint

wl_seat
> get_pointer new wl_pointer
> get_keyboard new wl_keyboard
< capabilities uint
< name string

wl_keyboard
> release
< keymap uint fd uint
< enter uint object array
< leave uint object
< key uint uint uint uint
< modifiers uint uint uint uint uint
< repeat_info int int

wl_pointer
> set_cursor uint object int int
> release
< enter uint object fixed fixed
< leave uint object
< motion uint fixed fixed
< button uint uint uint uint
< axis uint uint fixed
< frame
< axis_source uint
< axis_stop uint uint
< axis_discrete uint int

wl_compositor
> create_surface new wl_surface
> create_region new wl_region

wl_region
> destroy

wl_output
< geometry int int int int int string string int
< mode uint int int int
< done
< scale int

wl_surface
> destroy
> attach object int int
> damage int int int int
> frame new wl_callback
> set_opaque_region object
> set_input_region object
> commit
< enter object
< leave object

wl_shm
> create_pool new wl_shm_pool fd int
< format uint

wl_shm_pool
> create_buffer new wl_buffer int int int int uint
> destroy
> resize int

wl_buffer
> destroy
< release

zwp_virtual_keyboard_manager_v1
> create_virtual_keyboard object new zwp_virtual_keyboard_v1

zwp_virtual_keyboard_v1
> keymap uint fd uint
> key uint uint uint
> modifiers uint uint uint uint
> destroy

zwlr_virtual_pointer_manager_v1
> create_virtual_pointer object new zwlr_virtual_pointer_v1

zwlr_virtual_pointer_v1
> motion uint fixed fixed
> motion_absolute uint uint uint uint uint
> button uint uint uint
> axis uint uint fixed
> frame
> axis_source uint
> axis_stop uint uint
> axis_discrete uint uint fixed int
> destroy

zwlr_foreign_toplevel_manager_v1
> stop
< toplevel new zwlr_foreign_toplevel_handle_v1
< finished

zwlr_foreign_toplevel_handle_v1
> set_maximized
> unset_maximized
> set_minimized
> unset_minimized
> activate object
> close
> set_rectangle object int int int int
> destroy
< title string
< app_id string
< output_enter object
< output_leave object
< state array
< done
< closed
< parent object

zwlr_layer_shell_v1
> get_layer_surface new zwlr_layer_surface_v1 object object uint string

zwlr_layer_surface_v1
> set_size uint uint
> set_anchor uint
> set_exclusive_zone int
> set_margin int int int int
> set_keyboard_interactivity uint
> get_popup object
> ack_configure uint
> destroy
< configure uint uint uint
< closed

zwlr_data_control_manager_v1
> create_data_source new zwlr_data_control_source_v1
> get_data_device new zwlr_data_control_device_v1 object
> destroy

zwlr_data_control_device_v1
> set_selection object
> destroy
> set_primary_selection object
< data_offer new zwlr_data_control_offer_v1
< selection object
< finished
< primary_selection object

zwlr_data_control_source_v1
> offer string
> destroy
< send string fd
< cancelled

zwlr_data_control_offer_v1
> receive string fd
> destroy
< offer string

zwp_keyboard_shortcuts_inhibit_manager_v1
> destroy
> inhibit_shortcuts new zwp_keyboard_shortcuts_inhibitor_v1 object object

zwp_keyboard_shortcuts_inhibitor_v1
> destroy
< active
< inactive

org_kde_kwin_keystate
> fetchStates
< stateChanged uint uint

org_kde_kwin_fake_input
> authenticate string string
> pointer_motion fixed fixed
> button uint uint
> axis uint fixed
> touch_down uint fixed fixed
> touch_motion uint fixed fixed
> touch_up uint
> touch_cancel
> touch_frame
> pointer_motion_absolute fixed fixed
> keyboard_key uint uint
"""


class Message(NamedTuple):
    """A request or an event: its number, name and arguments, and the interface of the object that it makes, if any."""

    number: int
    name: str
    arguments: tuple[str, ...]
    makes: str = ""


class Interface(NamedTuple):
    """An interface: its requests by name, and its events in order."""

    name: str
    requests: dict[str, Message]
    events: tuple[Message, ...]


def _message(number: int, words: list[str]) -> Message:
    makes = words[words.index("new") + 1] if "new" in words else ""
    return Message(number, words[0], tuple(word for word in words[1:] if word != makes), makes)


def _read(text: str) -> Interface:
    name, *lines = text.strip().splitlines()
    requests = [line[2:].split() for line in lines if line[0] == ">"]
    events = [line[2:].split() for line in lines if line[0] == "<"]
    return Interface(
        name,
        {words[0]: _message(number, words) for number, words in enumerate(requests)},
        tuple(_message(number, words) for number, words in enumerate(events)),
    )


INTERFACES: dict[str, Interface] = {one.name: one for one in map(_read, TABLES.strip().split("\n\n"))}
"""Every interface by its name."""
