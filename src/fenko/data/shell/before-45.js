/* exported init, enable, disable */
const { Clutter, Gio, GLib, Meta } = imports.gi;
const Main = imports.ui.main;
const KeyboardManager = imports.misc.keyboardManager;
const Keyboard = imports.ui.status.keyboard;

let desk = null;

function init() {
}

function enable() {
    desk = new Desk();
}

function disable() {
    desk.close();
    desk = null;
}
