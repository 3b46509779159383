<script setup lang="ts">
import type { Schema } from "../api";
import { some, when } from "../format";

defineProps<{ proof: Schema["Proof"] }>();
</script>

<template>
  <h2 :class="proof.proved ? 'text-good' : 'text-ember'">
    {{ proof.proved ? "Proved: all that was compared is there again" : "Not proved" }}
  </h2>
  <p class="text-sm text-muted">{{ when(proof.at) }}</p>
  <div class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>List</th>
          <th>In the backup</th>
          <th>Fresh target</th>
          <th>After</th>
          <th>Missing</th>
          <th>Only on the target</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="item in proof.lists" :key="item.name">
          <td>{{ item.name }}</td>
          <td>{{ item.backup }}</td>
          <td>{{ item.fresh ?? "–" }}</td>
          <td>{{ item.after }}</td>
          <td :class="item.missing.length ? 'font-semibold text-ember' : 'text-muted'">
            {{ some(item.missing, 12) || "nothing" }}
          </td>
          <td class="text-muted">{{ some(item.extra, 8) || "nothing" }}</td>
        </tr>
      </tbody>
      <tbody v-if="proof.machine.length">
        <tr>
          <td colspan="6" class="text-sm text-muted">Of the machine itself: no restore brings it, and no proof needs it</td>
        </tr>
        <tr v-for="item in proof.machine" :key="item.name" class="text-muted">
          <td>{{ item.name }}</td>
          <td>{{ item.backup }}</td>
          <td>{{ item.fresh ?? "–" }}</td>
          <td>{{ item.after }}</td>
          <td>{{ some(item.missing, 12) || "nothing" }}</td>
          <td>{{ some(item.extra, 8) || "nothing" }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-if="proof.left_out_lists.length" class="mt-3">
    <span class="text-sm font-semibold text-warn">Not compared:</span> {{ proof.left_out_lists.join(", ") }}
  </p>
  <ul class="mt-3">
    <li v-for="check in proof.checks" :key="check.title">
      <span class="inline-block w-20 text-sm font-semibold" :class="check.passed ? 'text-good' : 'text-ember'">{{
        check.passed ? "Passed" : "Failed"
      }}</span>
      {{ check.title }} <span class="text-muted">{{ check.detail }}</span>
    </li>
  </ul>
</template>
