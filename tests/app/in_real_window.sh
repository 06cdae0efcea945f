#!/usr/bin/env bash
# Runs the whole path in a real window on a virtual screen.
set -eu
export QT_QPA_PLATFORM=xcb
exec xvfb-run -a -s "-screen 0 1400x900x24" "$1" --gtest_filter='Window.TheWholePath*:Window.PlotsZoom*:Window.AGroupsLine*:HostileHands.ThePointer*'
