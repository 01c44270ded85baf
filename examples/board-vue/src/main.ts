import { boardCache } from "@cista/example-board-shared";
import { CistaPlugin } from "cista/vue";
import { createApp } from "vue";
import App from "./App.vue";
import "@cista/example-board-shared/board.css";

createApp(App).use(CistaPlugin, boardCache()).mount("#app");
