#!/usr/bin/env node
// The command is built from packages/cli, and carries along all that it needs: the library itself depends on none of it.
import "../dist/command/cista.js";
