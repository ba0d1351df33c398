// What Fenko asks of the shell: which window is in front, to bring one there or have it closed, and to press keys for surfaces.
// It changes nothing by itself. What somebody has pressed goes up when they leave the bus.

const INTERFACE = `<node><interface name="fenko.Desk">
  <method name="Front"><arg type="s" direction="out"/></method>
  <method name="Windows"><arg type="s" direction="out"/></method>
  <method name="Raise"><arg type="s" direction="in"/></method>
  <method name="Close"><arg type="s" direction="in"/></method>
  <method name="Layout"><arg type="s" direction="out"/></method>
  <method name="LetGo"/>
  <method name="Send"><arg type="s" direction="in"/></method>
  <signal name="FrontChanged"><arg type="s"/></signal>
  <signal name="LayoutChanged"><arg type="s"/></signal>
  <signal name="Arrived"><arg type="s"/></signal>
</interface></node>`;

// Kinds of windows that nobody works in, by Meta.WindowType.
const PASSING = [
    Meta.WindowType.DESKTOP, Meta.WindowType.DOCK, Meta.WindowType.MENU, Meta.WindowType.DROPDOWN_MENU,
    Meta.WindowType.POPUP_MENU, Meta.WindowType.TOOLTIP, Meta.WindowType.NOTIFICATION, Meta.WindowType.COMBO,
    Meta.WindowType.DND, Meta.WindowType.SPLASHSCREEN, Meta.WindowType.OVERRIDE_OTHER,
];

function alone(window) {
    return { app: window.get_wm_class() || '', title: window.get_title() || '', pid: window.get_pid() };
}

function about(window) {
    if (!window)
        return null;
    let owner = window;
    for (let depth = 0; depth < 8 && owner.get_transient_for(); ++depth)
        owner = owner.get_transient_for();
    return {
        ...alone(window), id: `${window.get_id()}`, front: window === global.display.focus_window,
        passing: PASSING.includes(window.get_window_type()), owner: owner === window ? null : alone(owner),
    };
}

class Desk {
    constructor() {
        this._backend = global.backend || Meta.get_backend();
        this._lender = null;
        this._sending = null;  // what is being carried out, while that takes its time,
        this._behind = 0;      // and how much that is
        this._underWay = false;  // whether keys have been sent since somebody asked when they arrive
        this._waiting = [];  // who has asked
        this._switches = 0;  // of Caps Lock, that are under way
        this._capitalsThen = false;
        this._device = this._backend.connect('last-device-changed', (backend, device) => {
            if (!this._waiting.length)
                return;
            if (device.get_device_type() === Clutter.InputDeviceType.POINTER_DEVICE)
                this._arrived();
            else
                this._nudge();  // of several changes only the last one is told
        });
        this._pressed = new Map();  // by who has pressed: what, and what tells that they have left
        this._object = Gio.DBusExportedObject.wrapJSObject(INTERFACE, this);
        this._object.export(Gio.DBus.session, '/fenko/Desk');
        this._owned = Gio.bus_own_name_on_connection(Gio.DBus.session, 'fenko.Desk', Gio.BusNameOwnerFlags.NONE, null, null);
        this._focus = global.display.connect('notify::focus-window', () => this._followed());
        this._title = [];
        const seat = this._seat = Clutter.get_default_backend().get_default_seat();
        this._keyboard = seat.create_virtual_device(Clutter.InputDeviceType.KEYBOARD_DEVICE);
        this._nudgers = [0, 1].map(() => seat.create_virtual_device(Clutter.InputDeviceType.POINTER_DEVICE));
        this._pointer = seat.create_virtual_device(Clutter.InputDeviceType.POINTER_DEVICE);
        this._sources = Keyboard.getInputSourceManager();
        this._source = this._sources.connect('current-source-changed', () => this._emit('LayoutChanged', this.Layout()));
        this._followed();
    }

    close() {
        for (const sender of [...this._pressed.keys()])
            this._forget(sender);
        this._backend.disconnect(this._device);
        this._sources.disconnect(this._source);
        global.display.disconnect(this._focus);
        this._unfollow();
        Gio.bus_unown_name(this._owned);
        this._object.unexport();
        this._keyboard = this._pointer = null;
    }

    _emit(name, text) {
        this._object.emit_signal(name, new GLib.Variant('(s)', [text]));
    }

    _unfollow() {
        if (this._title.length)
            this._title[0].disconnect(this._title[1]);
        this._title = [];
    }

    _followed() {
        this._unfollow();
        const window = global.display.focus_window;
        if (window)
            this._title = [window, window.connect('notify::title', () => this._tell())];
        this._tell();
    }

    _tell() {
        this._emit('FrontChanged', this.Front());
    }

    Front() {
        return JSON.stringify(about(global.display.focus_window));
    }

    _all() {
        return global.display.get_tab_list(Meta.TabList.NORMAL_ALL, null);
    }

    Windows() {
        return JSON.stringify(this._all().map(about));
    }

    _window(id) {
        return this._all().find(window => `${window.get_id()}` === id);
    }

    Raise(id) {
        const window = this._window(id);
        if (window)
            Main.activateWindow(window);
    }

    Close(id) {
        const window = this._window(id);
        if (window)
            window.delete(global.get_current_time());
    }

    // The layout in force, as XKB names it: `de`, or `fr+oss`.
    Layout() {
        const source = this._sources.currentSource;
        return source && source.type === 'xkb' ? source.id : '';
    }

    // --- Keys and pointer ---

    _of(sender) {
        if (!this._pressed.has(sender)) {
            const watch = Gio.bus_watch_name_on_connection(
                Gio.DBus.session, sender, Gio.BusNameWatcherFlags.NONE, null, () => this._forget(sender));
            this._pressed.set(sender, { watch, keys: new Set(), buttons: new Set(), capitals: false });
        }
        return this._pressed.get(sender);
    }

    _forget(sender) {
        const { watch, keys, buttons, capitals } = this._pressed.get(sender);
        this._pressed.delete(sender);
        Gio.bus_unwatch_name(watch);
        for (const code of keys)
            this._key(GLib.get_monotonic_time(), code, Clutter.KeyState.RELEASED);
        for (const button of buttons)
            this._pointer.notify_button(GLib.get_monotonic_time(), button, Clutter.ButtonState.RELEASED);
        if (capitals)
            this._switchCapitals();  // in the middle of a text
        this._useLayout(sender, '', '');
    }

    // A layout for a moment, on behalf of somebody; without a name the person's own again, unless somebody else has set one since.
    // What it returns, if anything, is kept when the layout is in force. A program gets a new layout before keys that are still
    // queued, and forgets with it which modifiers are down. So each layout waits for these keys.
    _useLayout(sender, name, options) {
        if (name) {
            return new Promise(done => this._afterKeys(done)).then(() => {
                if (!this._pressed.has(sender))
                    return null;  // they have left meanwhile
                this._lender = sender;
                return this._setKeymap(name, options);
            });
        } else if (this._lender === sender) {
            this._afterKeys(() => {
                if (this._lender !== sender)
                    return;
                this._lender = null;
                const manager = KeyboardManager.getKeyboardManager();
                manager._currentKeymap = null;  // else it believes that its own is still in force
                manager.reapply();
            });
        }
        return null;
    }

    // What a shell takes here has grown with its versions: also the model of the keyboard, and then in steps.
    _setKeymap(name, options) {
        const told = [name, '', options, 'pc105+inet'];
        if (this._backend.set_keymap_async) {
            return new Promise(done => this._backend.set_keymap_async(...told, null, (backend, result) => {
                try {
                    backend.set_keymap_finish(result);
                } catch (error) {
                    logError(error, 'Fenko');
                }
                done();
            }));
        }
        this._backend.set_keymap(...told.slice(0, this._backend.set_keymap.length));
        return null;
    }

    _key(now, code, state) {
        this._keyboard.notify_key(now, code, state);
        this._underWay = true;
    }

    // Whether Caps Lock is on. Of a switch that is under way the keyboard does not know yet.
    _capitals() {
        return this._switches ? this._capitalsThen : this._seat.get_keymap().get_caps_lock_state();
    }

    _switchCapitals() {
        this._capitalsThen = !this._capitals();
        ++this._switches;
        for (const to of [Clutter.KeyState.PRESSED, Clutter.KeyState.RELEASED])
            this._key(GLib.get_monotonic_time(), 58, to);
        this._afterKeys(() => --this._switches);
    }

    // When programs have been told of all keys so far. These go through a queue; a move of a pointer by nothing goes the same way,
    // and shows that it has arrived by which device is the last one then. Who asked first is the first to be told.
    _afterKeys(then) {
        const one = { then, behindKeys: this._underWay, late: 0 };
        this._underWay = false;
        this._waiting.push(one);
        if (one.behindKeys)
            one.late = GLib.timeout_add(GLib.PRIORITY_LOW, 1000, () => this._arrived());  // in case it is never told
        if (this._waiting[0] === one && one.behindKeys)
            this._nudge();
        else if (this._waiting[0] === one)
            this._arrived();
    }

    _arrived() {
        do {
            const one = this._waiting.shift();
            if (one.late)
                GLib.source_remove(one.late);
            one.then();
        } while (this._waiting.length && !this._waiting[0].behindKeys);
        if (this._waiting.length)
            this._nudge();
    }

    // By two pointers in turn, so that the last device is always another one by it.
    _nudge() {
        this._nudgers.reverse()[0].notify_relative_motion(GLib.get_monotonic_time(), 0, 0);
    }

    LetGoAsync(none, invocation) {
        this._inOrder(() => {
            if (this._pressed.has(invocation.get_sender()))
                this._forget(invocation.get_sender());
            invocation.return_value(null);
        });
    }

    // A list of `["key", code, down]`, `["button", number, down]`, `["move", dx, dy]`, `["scroll", dx, dy]`,
    // `["text", begins]`, `["arrived", word]`, `["layout", name, options]`.
    SendAsync([text], invocation) {
        this._inOrder(() => this._carryOut(invocation.get_sender(), JSON.parse(text)));
        invocation.return_value(null);
    }

    // Does it, behind everything that still takes its time.
    _inOrder(what) {
        let sending = null;
        try {
            sending = this._sending ? this._sending.then(what) : what();
        } catch (error) {
            logError(error, 'Fenko');
        }
        if (sending) {
            this._sending = sending.catch(error => logError(error, 'Fenko')).then(() => {
                if (--this._behind === 0)
                    this._sending = null;
            });
            ++this._behind;
        }
    }

    // In order. What it returns, if anything, is kept when the last of it is done: a layout may take its time to be in force.
    _carryOut(sender, acts) {
        if (!this._keyboard)
            return null;  // the extension has been turned off meanwhile
        const held = this._of(sender);
        for (const [at, [what, first, second]] of acts.entries()) {
            const now = GLib.get_monotonic_time();
            switch (what) {
            case 'key':
                held.keys[second ? 'add' : 'delete'](first);
                this._key(now, first, second ? Clutter.KeyState.PRESSED : Clutter.KeyState.RELEASED);
                break;
            case 'text':  // which means what it says, whatever Caps Lock would make of it
                if (first)
                    held.capitals = this._capitals();
                if (held.capitals)
                    this._switchCapitals();
                held.capitals = first && held.capitals;
                break;
            case 'arrived':
                this._afterKeys(() => this._emit('Arrived', first));
                break;
            case 'layout': {
                const inForce = this._useLayout(sender, first, second);
                if (inForce)
                    return inForce.then(() => this._carryOut(sender, acts.slice(at + 1)));
                break;
            }
            case 'button':
                held.buttons[second ? 'add' : 'delete'](first);
                this._pointer.notify_button(now, first, second ? Clutter.ButtonState.PRESSED : Clutter.ButtonState.RELEASED);
                break;
            case 'move':
                this._pointer.notify_relative_motion(now, first, second);
                break;
            case 'scroll':
                this._scroll(now, first, Clutter.ScrollDirection.LEFT, Clutter.ScrollDirection.RIGHT);
                this._scroll(now, second, Clutter.ScrollDirection.UP, Clutter.ScrollDirection.DOWN);
            }
        }
        return null;
    }

    _scroll(now, lines, back, on) {
        for (let n = 0; n < Math.min(Math.abs(lines), 1000); ++n)
            this._pointer.notify_discrete_scroll(now, lines > 0 ? on : back, Clutter.ScrollSource.WHEEL);
    }
}
