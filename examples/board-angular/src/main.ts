import "@angular/compiler";
import { bootstrapApplication } from "@angular/platform-browser";
import { boardCache } from "@cista/example-board-shared";
import { provideCache } from "cista/angular";
import { HutBoard } from "./board.js";
import "@cista/example-board-shared/board.css";

await bootstrapApplication(HutBoard, { providers: [provideCache(boardCache())] });
