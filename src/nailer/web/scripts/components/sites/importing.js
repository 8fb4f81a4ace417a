// A chosen file becomes text in the form; Nailer reads it when asked to look.
export default () => ({
  async choose(event) {
    const [file] = event.target.files;
    if (file && file.size < 200_000) this.$refs.text.value = await file.text();
  },
});
