let leaving = false;

// A request that is made while the page goes away must outlive it.
if (typeof window !== "undefined") {
  window.addEventListener("pagehide", () => {
    leaving = true;
  });
  window.addEventListener("pageshow", () => {
    leaving = false;
  });
}

/** Whether the page is going away. */
export const isLeaving = () => leaving;
