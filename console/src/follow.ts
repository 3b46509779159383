import { onBeforeUnmount, ref, type Ref, watch } from "vue";
import type { Schema } from "./api";
import { serviceNow } from "./format";
import { visible } from "./visible";

type Run = Schema["RunShown"];

/** Follows a run by server-sent events until it ends; reconnects by itself. */
export function useFollowed(run: Ref<string | null>): { run: Ref<Run | null>; log: Ref<Schema["LogLine"][]>; now: Ref<number> } {
  const followed = ref<Run | null>(null);
  const log = ref<Schema["LogLine"][]>([]);
  const now = ref(serviceNow());
  let source: EventSource | null = null;
  const clock = window.setInterval(() => (now.value = serviceNow()), 500);

  function close(): void {
    source?.close();
    source = null;
  }
  watch(
    run,
    (id) => {
      close();
      followed.value = null;
      log.value = [];
      if (!id) return;
      source = new EventSource(`/api/v1/runs/${id}/events`);
      source.addEventListener("run", (event) => {
        followed.value = JSON.parse(visible(event.data as string)) as Run;
        if (["done", "failed", "stopped"].includes(followed.value.state)) close();
      });
      source.addEventListener("log", (event) => {
        const line = JSON.parse(visible(event.data as string)) as Schema["LogLine"];
        if (!log.value.some((known) => known.id === line.id)) log.value.push(line);
      });
    },
    { immediate: true },
  );
  onBeforeUnmount(() => {
    close();
    window.clearInterval(clock);
  });
  return { run: followed, log, now };
}
