/** @jsxImportSource solid-js */
import type {} from "cista/solid";

export const solidLamp = () => <cista-lamp entry={'hut "h-07"'} class="corner" />;
