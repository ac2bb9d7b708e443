// What a browser has and jsdom lacks. The API's client takes fetch and Request when it is
// loaded, so that they are here before.
import { vi } from "vitest";

const { Request: Bare } = globalThis;
vi.stubGlobal(
  "Request",
  class extends Bare {
    constructor(input: RequestInfo | URL, init?: RequestInit) {
      super(typeof input === "string" ? new URL(input, location.href) : input, init);
    }
  },
);
vi.stubGlobal("fetch", (request: Request) => service.answer(request));
vi.stubGlobal(
  "EventSource",
  class extends EventTarget {
    close() {}
  },
);
vi.stubGlobal(
  "ResizeObserver",
  class {
    observe() {}
    disconnect() {}
  },
);

// service is what answers; each test says how.
export const service: { answer: (request: Request) => Promise<Response> } = {
  answer: () => Promise.reject(new TypeError("nothing listens")),
};
