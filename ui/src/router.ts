import { createRouter, createWebHistory } from "vue-router";

/** Each view is fetched when it is first opened: a page that shows one has no need of the code of all. */
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", redirect: { name: "tracks" } },
    { path: "/tracks", name: "tracks", component: () => import("./views/TracksView.vue") },
    { path: "/bench/:track?", name: "bench", component: () => import("./views/BenchView.vue") },
    { path: "/clashes", name: "clashes", component: () => import("./views/ClashesView.vue") },
    { path: "/handover", name: "handover", component: () => import("./views/HandoverView.vue") },
    { path: "/:rest(.*)", redirect: { name: "tracks" } },
  ],
});
