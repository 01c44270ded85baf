#!/usr/bin/env node
import "../dist/cista.js";
