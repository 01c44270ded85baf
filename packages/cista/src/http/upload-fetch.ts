/** How far an upload has come. Bytes. */
export interface UploadProgress {
  readonly sent: number;
  /** 0 where it is not known. */
  readonly total: number;
}

/**
 * A `fetch` that tells how far a body has been sent, which the platform's own does not: by XMLHttpRequest, so in a page only.
 * For `sendBy` of a write: the origin's headers, token, renewal and problem bodies stay as they are.
 * Redirections are followed by the browser.
 * @example
 * const addPhoto = writeTo<Upload, { url: string }>(api, {
 *   name: "add-photo",
 *   method: "POST",
 *   url: "/api/photos",
 *   body: ({ photo }) => photo,
 *   sendBy: ({ onProgress }) => uploadFetch(onProgress),
 * });
 */
export function uploadFetch(onProgress: (progress: UploadProgress) => void): typeof fetch {
  return (url, init = {}) =>
    new Promise<Response>((resolve, reject) => {
      const request = new XMLHttpRequest();
      request.open(init.method ?? "GET", String(url));
      request.responseType = "blob";
      request.withCredentials = init.credentials === "include";
      new Headers(init.headers).forEach((value, name) => {
        request.setRequestHeader(name, value);
      });
      request.upload.onprogress = ({ loaded, total, lengthComputable }) =>
        onProgress({ sent: loaded, total: lengthComputable ? total : 0 });
      const { signal } = init;
      signal?.throwIfAborted();
      const abort = () => request.abort();
      signal?.addEventListener("abort", abort);
      request.onabort = () => reject(signal?.reason ?? new DOMException("The upload was aborted.", "AbortError"));
      request.onerror = () => reject(new TypeError("Failed to fetch"));
      request.onloadend = () => signal?.removeEventListener("abort", abort);
      request.onload = () => {
        try {
          resolve(responseOf(request));
        } catch (cause) {
          reject(new TypeError("Failed to fetch", { cause })); // a status that no Response can have, such as 999
        }
      };
      request.send(init.body as XMLHttpRequestBodyInit);
    });
}

function responseOf(request: XMLHttpRequest): Response {
  const { status, statusText, response, responseURL } = request;
  const headers = new Headers();
  for (const line of request.getAllResponseHeaders().trim().split(/\r?\n/)) {
    const colon = line.indexOf(":");
    if (colon > 0) headers.append(line.slice(0, colon).trim(), line.slice(colon + 1).trim());
  }
  const hasBody = ![204, 205, 304].includes(status);
  const made = new Response(hasBody ? (response as Blob) : null, { status, statusText, headers });
  return Object.defineProperty(made, "url", { value: responseURL });
}
