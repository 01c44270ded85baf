import { createCache } from "cista";
import { useCache } from "cista/react";

export const cache = createCache();

// In every tab, also where the button was pressed in another one.
cache.onSignOut(() => sessionStorage.removeItem("token"));

export function SignOut({ toSignIn }: { toSignIn: () => void }) {
  const cache = useCache();
  const signOut = async () => {
    await cache.signOut(); // requests and writes end, what waits is not sent, entries and stores are empty
    toSignIn();
  };
  return (
    <button type="button" onClick={() => void signOut()}>
      Sign out
    </button>
  );
}
