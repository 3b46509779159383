import { createRouter, createWebHistory } from "vue-router";

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", component: () => import("./pages/EstatePage.vue"), meta: { title: "Estate" } },
    { path: "/systems/:name", component: () => import("./pages/SystemPage.vue"), meta: { title: "System" } },
    { path: "/compare", component: () => import("./pages/ComparePage.vue"), meta: { title: "Compare" } },
    { path: "/kinds", component: () => import("./pages/KindsPage.vue"), meta: { title: "Kinds" } },
    { path: "/kinds/:name", component: () => import("./pages/KindsPage.vue"), meta: { title: "Kind" } },
    { path: "/runs", component: () => import("./pages/RunsPage.vue"), meta: { title: "Log book" } },
    { path: "/runs/:run", component: () => import("./pages/RunPage.vue"), meta: { title: "Run" } },
    { path: "/restores", component: () => import("./pages/RestoresPage.vue"), meta: { title: "Restore desk" } },
    { path: "/restores/:sheet", component: () => import("./pages/SheetPage.vue"), meta: { title: "Run sheet" } },
    { path: "/deployments", component: () => import("./pages/DeploymentsPage.vue"), meta: { title: "New machines" } },
    {
      path: "/deployments/:deployment",
      component: () => import("./pages/DeploymentPage.vue"),
      meta: { title: "New machine" },
    },
    { path: "/routines", component: () => import("./pages/RoutinesPage.vue"), meta: { title: "Routines" } },
    { path: "/alerts", component: () => import("./pages/AlertsPage.vue"), meta: { title: "Alerts" } },
    { path: "/stores", component: () => import("./pages/StoresPage.vue"), meta: { title: "Stores" } },
    { path: "/stores/:name", component: () => import("./pages/StorePage.vue"), meta: { title: "Store" } },
    { path: "/drops", component: () => import("./pages/DropsPage.vue"), meta: { title: "Drops" } },
    { path: "/account", component: () => import("./pages/AccountPage.vue"), meta: { title: "You" } },
    { path: "/access", component: () => import("./pages/AccessPage.vue"), meta: { title: "Access" } },
    { path: "/audit", component: () => import("./pages/AuditPage.vue"), meta: { title: "Audit" } },
    { path: "/sign-in", component: () => import("./pages/SignInPage.vue"), meta: { title: "Sign in", open: true } },
    { path: "/setup", component: () => import("./pages/SetupPage.vue"), meta: { title: "First start", open: true } },
    { path: "/:rest(.*)*", component: () => import("./pages/LostPage.vue"), meta: { title: "Nothing here" } },
  ],
});

router.afterEach((to) => {
  document.title = `${String(to.meta.title)} – Fennox`;
});
