import { boardCache } from "@cista/example-board-shared";
import { contextOf } from "cista/svelte";
import { mount } from "svelte";
import App from "./App.svelte";
import "@cista/example-board-shared/board.css";

const target = document.getElementById("app");
if (target) mount(App, { target, context: contextOf(boardCache()) });
