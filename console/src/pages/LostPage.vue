<template>
  <h1>There is nothing here</h1>
  <p class="mt-2">Go to the <RouterLink to="/">estate</RouterLink>.</p>
</template>
