export { startOrigin } from "@cista/example-origin";
