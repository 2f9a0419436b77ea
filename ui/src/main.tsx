import "@fontsource-variable/source-sans-3/wght.css";
import "@fontsource-variable/source-serif-4/wght.css";
import "@/styles/flinch.scss";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { listen } from "@/shared/api/live";
import { queryClient } from "@/shared/api/queries";
import { settleMarket } from "@/shared/market";

const root = document.getElementById("root");
// The router reads the address when it is made.
await settleMarket();
const { App } = await import("./app");
listen(queryClient);
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queryClient}>
        <App />
      </QueryClientProvider>
    </StrictMode>,
  );
