"""A form with a field, a password field and a menu that is filled only when it opens."""
import sys

import gi

gi.require_version("Gtk", "3.0")
from gi.repository import Gtk

window = Gtk.Window(title="Store form")
window.set_default_size(400, 200)
box = Gtk.Box(orientation=Gtk.Orientation.VERTICAL)
depth, word = Gtk.Entry(), Gtk.Entry(visibility=False)
chosen = []


def keep(*_):
    with open(sys.argv[1], "w", encoding="utf-8") as file:
        file.write("|".join([depth.get_text(), word.get_text(), *chosen]))


def fill(menu):
    if menu.get_children():
        return
    for name in ["Rack 3", "Rack 4"]:
        entry = Gtk.MenuItem(label=name)
        entry.connect("activate", lambda item: (chosen.append(item.get_label()), keep()))
        menu.append(entry)
    menu.show_all()


rack, menu = Gtk.MenuItem(label="Rack"), Gtk.Menu()
menu.connect("show", fill)
rack.set_submenu(menu)
bar = Gtk.MenuBar()
bar.append(rack)
for widget in [bar, depth, word]:
    box.add(widget)
for field in [depth, word]:
    field.connect("changed", keep)
window.add(box)
window.connect("destroy", Gtk.main_quit)
window.show_all()
depth.grab_focus()
keep()
Gtk.main()
