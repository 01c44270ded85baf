import { configure } from "@testing-library/react";

configure({ asyncUtilTimeout: 60_000 });
