import Link from "next/link";
import type { ReactNode } from "react";
import { Cista } from "./cista/provider";

export default function Layout({ children }: { children: ReactNode }) {
  return (
    <html lang="en">
      <body>
        <nav>
          <Link id="to-home" href="/">
            Huts
          </Link>{" "}
          <Link id="to-hut" href="/hut/h-02">
            Tarn Shelf
          </Link>
        </nav>
        <Cista>{children}</Cista>
      </body>
    </html>
  );
}
