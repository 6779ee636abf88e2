import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The script of the doors is not part of the application: it comes from the service that keeps them.
export default defineConfig({
  base: "/desk/",
  plugins: [react()],
  build: { outDir: "dist", emptyOutDir: false, rollupOptions: { external: ["/door/client.js"] } },
});
