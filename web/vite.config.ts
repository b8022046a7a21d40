import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The library of notices writes its style sheet into the page by script, which the page's policy forbids;
// it is a file of ours instead (main.tsx).
const noticesWithoutScriptedStyle = {
  name: "notices-without-scripted-style",
  transform(code: string, id: string) {
    if (!/sonner\/dist\/index\.m?js/.test(id)) return null;
    const without = code.replace(/^__insertCSS\(.*$/m, "");
    if (without === code) throw new Error(`${id} does not write its style sheet as it did`);
    return without;
  },
};

export default defineConfig({
  plugins: [react(), tailwind(), noticesWithoutScriptedStyle],
  build: {
    outDir: "dist",
    emptyOutDir: true,
    sourcemap: false,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 900,
  },
  server: { proxy: { "/api": "http://127.0.0.1:7480", "/hooks": "http://127.0.0.1:7480" } },
});
