// Sets the theme before the page is drawn; the button in the header changes it.
(() => {
  const root = document.documentElement;
  root.dataset.theme = localStorage.getItem('theme') || 'dark';
  addEventListener('DOMContentLoaded', () => {
    document.querySelector('#theme')?.addEventListener('click', () => {
      root.dataset.theme = root.dataset.theme === 'day' ? 'dark' : 'day';
      localStorage.setItem('theme', root.dataset.theme);
    });
  });
})();
