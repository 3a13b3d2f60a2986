import { createRouter, createWebHistory } from "vue-router";
import BenchView from "./views/BenchView.vue";
import ClashesView from "./views/ClashesView.vue";
import HandoverView from "./views/HandoverView.vue";
import TracksView from "./views/TracksView.vue";

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", redirect: { name: "tracks" } },
    { path: "/tracks", name: "tracks", component: TracksView },
    { path: "/bench/:track?", name: "bench", component: BenchView },
    { path: "/clashes", name: "clashes", component: ClashesView },
    { path: "/handover", name: "handover", component: HandoverView },
    { path: "/:rest(.*)", redirect: { name: "tracks" } },
  ],
});
