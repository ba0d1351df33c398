// Tells Fenko which window is in front. Loaded by Fenko, and unloaded when it ends; it changes nothing.
// Runs on KWin 5 (clients) and 6 (windows).
var all = function () { return workspace.windowList !== undefined ? workspace.windowList() : workspace.clientList(); };
var active = function () { return workspace.activeWindow !== undefined ? workspace.activeWindow : workspace.activeClient; };

// KWin numbers windows of one title (`Reel <2>`); other desktops tell of the title alone.
var numbered = {};
function title(window) {
    var text = String(window.caption || ""), plain = text.replace(/ <\d+>$/, ""), id = String(window.internalId);
    if (plain === text) { return text; }
    var others = all();
    for (var n = 0; n < others.length && numbered[id] !== plain; ++n) {
        var other = String(others[n].caption || "");
        if (others[n] !== window && (other === plain || other.replace(/ <\d+>$/, "") === plain)) { numbered[id] = plain; }
    }
    return numbered[id] === plain ? plain : text;
}

function alone(window) {
    return { app: String(window.resourceClass || window.desktopFileName || ""), title: title(window),
             pid: Number(window.pid) || 0 };
}

function about(window) {
    if (!window) { return null; }
    var said = alone(window);
    said.id = String(window.internalId);
    said.front = window === active();
    said.passing = Boolean(window.dock || window.notification || window.tooltip || window.popupWindow || window.desktopWindow
                           || window.criticalNotification || window.onScreenDisplay);
    var owner = window;
    for (var depth = 0; depth < 8 && owner.transientFor && owner.transientFor !== owner; ++depth) { owner = owner.transientFor; }
    if (owner !== window) { said.owner = alone(owner); }
    return said;
}

function tell(member, what) { callDBus("@NAME@", "/", "fenko.Windows", member, JSON.stringify(what)); }

function front(window) { tell("Front", about(window === undefined ? active() : window)); }
function follow(window) {
    window.captionChanged.connect(function () { if (window === active()) { front(window); } });
}

switch ("@TASK@") {
case "follow":
    (workspace.windowActivated || workspace.clientActivated).connect(front);
    (workspace.windowAdded || workspace.clientAdded).connect(follow);
    var there = all();
    for (var each = 0; each < there.length; ++each) { follow(there[each]); }
    front();
    break;
case "list":
    var list = all(), said = [];
    for (var at = list.length - 1; at >= 0; --at) { said.push(about(list[at])); }
    tell("All", said);
    break;
default:
    var windows = all();
    for (var n = 0; n < windows.length; ++n) {
        if (String(windows[n].internalId) !== "@ID@") { continue; }
        if ("@TASK@" === "close") { windows[n].closeWindow(); }
        else if (workspace.activeWindow !== undefined) { workspace.activeWindow = windows[n]; }
        else { windows[n].minimized = false; workspace.activeClient = windows[n]; }
    }
    tell("Done", null);
}
