"""The surfaces of a running desk: finds their devices, opens and takes them over, and follows their coming and going."""

from __future__ import annotations

import errno
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from fenko.core.changes import PLUG, UNPLUG, Change
from fenko.core.inputs import Inputs
from fenko.core.plan import Surface
from fenko.core.remedies import input_denied
from fenko.devices.node import OpenNode
from fenko.live.loop import Loop
from fenko.live.registry import Registry
from fenko.system.inotify import FolderWatch
from fenko.system.person import group_member
from fenko.system.things import DEVICE_FOLDER, Node, list_nodes, read_node

_PERMISSIONS_TAKE = 1.0
"""Seconds after a node appears in which the system may still give this user access to it."""


TRIES_EVERY = 1.0
"""Seconds from one attempt to the next to take a device that another program has."""


class Surfaces:
    """Feeds the changes of every device that the registry gives to a surface, with `raw` as the devices say them. `note` is
    told of each coming and going; `otherwise_here` says whether a surface is there by another link than a kernel device. `motion` gets the moves of a mouse as they are, but for surfaces with `bound_motion`; of those that are `felt`, sensors are heard too. With `only`, the kernel tells of these keys and of nothing else."""

    def __init__(
        self,
        registry: Registry,
        loop: Loop,
        feed: Callable[[Sequence[Change]], None],
        motion: Callable[[bytes], None],
        note: Callable[[str], None],
        only: frozenset[int] | None = None,
        raw: bool = False,
        bound_motion: frozenset[str] = frozenset(),
        felt: frozenset[str] = frozenset(),
        otherwise_here: Callable[[str], bool] = lambda surface: False,
    ) -> None:
        self._otherwise_here = otherwise_here
        self._only = only
        self._raw = raw
        self._bound_motion = bound_motion
        self._felt = felt
        self._known: dict[str, Surface] = {}
        self.inputs = Inputs(self._known)
        """What is known of every input of the surfaces that have been here."""
        self._registry = registry
        self._loop = loop
        self._feed = feed
        self._motion = motion
        self._note = note
        self._open: dict[str, OpenNode] = {}
        self._heard: dict[str, OpenNode] = {}  # of each surface the node that spoke last
        self._lent = False
        self._left: frozenset[str] = frozenset()
        self._complained: set[str] = set()
        self._denied: set[str] = set()
        self._taken: set[str] = set()
        self._free_again = loop.timer(self._try_taken)
        self._second_try = loop.timer(self._try_again)
        self._watch: FolderWatch | None = None

    def start(self) -> None:
        """Opens what is there and follows what comes."""
        self._watch_folder()
        for node in list_nodes():
            self._attach(node, quietly=True)
        expected = self._registry.expected()
        for name in dict.fromkeys((*expected, *(opened.surface.name for opened in self._open.values()))):
            nodes = self._nodes_of(name)
            if nodes:
                self._note(f"surface {name}: {_described(nodes)}{self._hands(name)}")
            elif self._otherwise_here(name):
                continue
            elif not expected[name]:
                self._note(f"surface {name}: the desk gives it no links, so no device can be it")
            elif name not in self._complained:
                self._note(f"surface {name}: not here yet ({' or '.join(expected[name])})")

    def _watch_folder(self) -> None:
        """Watches the folder of the event nodes; the one above as long as no input device exists at all."""
        folder = DEVICE_FOLDER if DEVICE_FOLDER.is_dir() else DEVICE_FOLDER.parent
        try:
            watch = self._watch = FolderWatch(folder)
        except OSError as why:
            self._note(f"devices that are plugged in later will not be noticed: {why.strerror} ({folder})")
            return
        self._loop.add(watch.fd, lambda: self._folder_changed(watch, folder))

    def _folder_changed(self, watch: FolderWatch, folder: Path) -> None:
        for name, there in watch.read():
            if folder != DEVICE_FOLDER:
                if name == DEVICE_FOLDER.name and there:
                    self._loop.remove(watch.fd)
                    watch.close()
                    self._watch_folder()
                    for found in list_nodes():
                        self._attach(found)
                    return
                continue
            path = str(DEVICE_FOLDER / name)
            if not there:
                self._detach(path)
            elif name.startswith("event") and path not in self._open:
                self._attach_named(name, patient=True)

    def _try_again(self, now: float) -> None:
        denied, self._denied = self._denied, set()
        for name in denied:
            self._attach_named(name)

    def _try_taken(self, now: float) -> None:
        taken, self._taken = self._taken, set()
        for name in taken:
            self._attach_named(name)

    def _attach_named(self, name: str, patient: bool = False) -> None:
        node = read_node(name)
        if node is not None:
            self._attach(node, patient=patient)

    def _attach(self, node: Node, quietly: bool = False, patient: bool = False) -> None:
        """Opens a node if a surface claims it. `patient`: it is so new that its permissions may yet be given."""
        surface = self._registry.claim(node)
        if surface is None or node.path in self._open:
            return
        name = surface.name
        if node.feels and name not in self._felt:
            return  # it would speak hundreds of times a second, to nobody
        first = not self._nodes_of(name)
        try:
            motion = None if name in self._bound_motion else self._motion
            opened = OpenNode(node, surface, self._registry.exclusive(name), motion, self._only)
        except OSError as why:
            if patient and why.errno == errno.EACCES:
                self._denied.add(Path(node.path).name)
                self._second_try.set(time.monotonic() + _PERMISSIONS_TAKE)
            else:
                self._complain(name, node, why)
            return
        self._taken.discard(Path(node.path).name)
        self._complained.discard(name)
        self._known[name] = surface
        self._open[node.path] = opened
        self._loop.add(opened.fd, lambda: self._readable(opened))
        if self._lent or name in self._left:
            opened.lend()
        # Every node is announced: a later one may bring further controls of the same thing.
        self._feed([(time.monotonic(), PLUG, name)])
        if first and not quietly:
            self._note(f"surface {name}: here now, {_described(self._nodes_of(name))}{self._hands(name)}")

    def _complain(self, name: str, node: Node, why: OSError) -> None:
        """Says once why a device cannot be used, and what helps. One that another program has is tried again and again, for
        nobody tells when it lets go."""
        if why.errno == errno.EBUSY:
            self._taken.add(Path(node.path).name)
            self._free_again.set_in(TRIES_EVERY)
        if why.errno in (errno.ENODEV, errno.ENOENT) or name in self._complained:
            return
        self._complained.add(name)
        if why.errno in (errno.EACCES, errno.EPERM):
            commands = input_denied([(node.vendor, node.product)], group_member()).commands()
            remedy = "\n".join(f"    {command}" for command in commands)
            self._note(f"surface {name}: {node.path} may not be read by this user. To allow it for good:\n{remedy}")
        elif why.errno == errno.EBUSY:
            self._note(
                f"surface {name}: another program has taken {node.path} over; the surface works as soon as that lets it go"
            )
        else:
            self._note(f"surface {name}: {node.path} cannot be used: {why.strerror or why}")

    def _readable(self, opened: OpenNode) -> None:
        try:
            changes = opened.read()
        except OSError as why:
            self._failed(opened, why)
            return
        if changes:
            self._heard[opened.surface.name] = opened
            self._feed(changes if self._raw else list(map(self.inputs.conditioned, changes)))

    def _failed(self, opened: OpenNode, why: OSError) -> None:
        """A node that was open works no longer: it is gone, or another program was quicker to take it over."""
        if why.errno == errno.EBUSY:
            self._complain(opened.surface.name, opened.node, why)
        self._detach(opened.node.path)

    def _detach(self, path: str) -> None:
        opened = self._open.pop(path, None)
        if opened is None:
            return
        self._loop.remove(opened.fd)
        opened.close()
        name = opened.surface.name
        if self._heard.get(name) is opened:
            del self._heard[name]
        self._feed([(time.monotonic(), UNPLUG, name)])
        if self._nodes_of(name) or self._otherwise_here(name):
            self._feed([(time.monotonic(), PLUG, name)])  # what is left of it is there
        else:
            self._note(f"surface {name}: gone; it works again as soon as it is back")

    def _nodes_of(self, name: str) -> list[OpenNode]:
        return [opened for opened in self._open.values() if opened.surface.name == name]

    def _hands(self, name: str) -> str:
        """Who has the surface, in words."""
        if not self._registry.exclusive(name):
            return ", other programs see it too"
        if all(node.grabbed for node in self._nodes_of(name)):
            return ", taken over"
        return ", will be taken over when all its keys are up"

    @property
    def any_open(self) -> bool:
        """Whether there is anything to hear."""
        return bool(self._open)

    def present(self, name: str) -> list[tuple[Surface, list[str]]]:
        """The surface of that name, once for each of its nodes, with the controls of the node by the kernel's names."""
        return [(opened.surface, opened.controls) for opened in self._nodes_of(name)]

    def called(self, name: str) -> str:
        """What the device of a surface calls itself; empty while it is not here."""
        nodes = self._nodes_of(name)
        return nodes[0].node.name if nodes else ""

    def raw(self, address: str) -> str:
        """What the kernel itself says of an input: a button's code, an axis's value; empty if nothing is known."""
        source = self.source(address)
        return source.raw(address) if source else ""

    def source(self, address: str) -> OpenNode | None:
        """The node that moves this input; of several devices of a surface the one that spoke last."""
        name = address.partition(".")[0]
        heard = self._heard.get(name)
        nodes = [heard] if heard is not None else []
        return next((opened for opened in (*nodes, *self._nodes_of(name)) if opened.moves(address)), None)

    def lend(self) -> None:
        """Lets other programs have all surfaces, while Fenko is paused."""
        self._lent = True
        self._each(OpenNode.lend)

    def take_back(self) -> None:
        """Takes them over again."""
        self._lent = False
        self._each(self._take_back)

    def leave(self, surfaces: frozenset[str]) -> None:
        """Lets other programs have these surfaces, and no others, unless all are lent."""
        self._left = surfaces
        if not self._lent:
            self._each(lambda opened: opened.lend() if opened.surface.name in surfaces else opened.take_back())

    def _take_back(self, opened: OpenNode) -> None:
        if opened.surface.name not in self._left:
            opened.take_back()

    def _each(self, what: Callable[[OpenNode], None]) -> None:
        for opened in list(self._open.values()):
            try:
                what(opened)
            except OSError as why:
                self._failed(opened, why)

    def close(self) -> None:
        """Gives every device back."""
        # What refers to itself would stay in memory: nobody looks for rubbish among what a desk is made of.
        self._free_again.end()
        self._second_try.end()
        self._taken.clear()
        for opened in self._open.values():
            self._loop.remove(opened.fd)
            opened.close()
        self._open.clear()
        self._heard.clear()
        if self._watch is not None:
            self._loop.remove(self._watch.fd)
            self._watch.close()


def _described(nodes: list[OpenNode]) -> str:
    first = nodes[0].node
    count = f"{len(nodes)} nodes" if len(nodes) > 1 else Path(first.path).name
    return f"{first.name or first.link} ({first.link}, {count})"
