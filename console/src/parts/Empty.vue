<!-- What a page says where it has nothing to show: what to do, so that it has. -->
<template>
  <el-empty class="card" :image-size="44">
    <template #image><img src="/assets/lantern.svg" alt="" width="44" height="44" /></template>
    <template #description><slot /></template>
  </el-empty>
</template>
