import { ref, watchEffect } from "vue";

const key = "fennox-theme";
const saved = localStorage.getItem(key);
export const dark = ref(saved ? saved === "dark" : window.matchMedia("(prefers-color-scheme: dark)").matches);

watchEffect(() => {
  document.documentElement.classList.toggle("dark", dark.value);
});

export function toggleTheme(): void {
  dark.value = !dark.value;
  localStorage.setItem(key, dark.value ? "dark" : "light");
}
