<template>
  <h1>There is no such page</h1>
  <p><router-link to="/">Go to the fleet</router-link></p>
</template>
