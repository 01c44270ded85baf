/** @jsxImportSource preact */
import type {} from "cista/preact";

export const preactLamp = () => <cista-lamp entry={'hut "h-07"'} class="corner" />;
