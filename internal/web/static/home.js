// The list of assets: make, open, delete.
import { $, complain } from './dom.js';
import { call, upload } from './api.js';
import { value } from './values.js';

const words = $('#complaint'), picker = $('#model-files');

/** Shows how far files are on their way; once they are there, the model is read. */
function bringing(share) {
  const p = $('#bringing');
  p.hidden = false;
  $('span', p).textContent = share < 1 ? 'Bringing in the files…' : 'Reading the model…';
  const bar = $('progress', p);
  if (share < 1) bar.value = share; else bar.removeAttribute('value');
}

async function create(files) {
  complain(words, '');
  if (!files.length) return;
  document.body.classList.add('busy');
  try {
    const { id, stage } = await upload('/api/assets', files, bringing);
    location.href = `/assets/${id}/${stage || 'intake'}`;
  } catch (e) {
    complain(words, e.message);
  } finally {
    $('#bringing').hidden = true;
    document.body.classList.remove('busy');
    picker.value = '';
  }
}

$('#new-model').onclick = () => picker.click();
picker.onchange = () => create([...picker.files]);
$('#new-demo')?.addEventListener('click', async e => {
  const b = e.currentTarget;
  b.disabled = true;
  b.textContent = 'Making the demo…';
  try {
    const { id } = await call('POST', '/api/demo');
    location.href = `/assets/${id}/intake`;
  } catch (err) {
    complain(words, err.message);
    b.disabled = false;
    b.textContent = 'New from the demo';
  }
});

$('#new-square').onclick = () => {
  let side = 2;
  $('#square-side').replaceChildren(value({ name: 'side', value: side, min: 0.01, max: 100, default: 2, unit: 'm', log: true, commit: v => { side = v; } }));
  complain($('#square-complaint'), '');
  $('#square-yes').onclick = async e => {
    e.preventDefault();
    try {
      const { id, stage } = await call('POST', '/api/squares', { name: $('#square-name').value, side });
      location.href = `/assets/${id}/${stage}`;
    } catch (err) {
      complain($('#square-complaint'), err.message);
    }
  };
  $('#square').showModal();
};

addEventListener('dragover', e => { e.preventDefault(); document.body.classList.add('dragging'); });
addEventListener('dragleave', e => { if (!e.relatedTarget) document.body.classList.remove('dragging'); });
addEventListener('drop', e => {
  e.preventDefault();
  document.body.classList.remove('dragging');
  create([...e.dataTransfer.files]);
});

for (const img of document.querySelectorAll('.asset-card img')) img.onerror = () => img.classList.add('none');
for (const b of document.querySelectorAll('[data-delete]')) {
  b.onclick = () => {
    const card = b.closest('.asset-card'), d = $('#confirm');
    $('p', d).textContent = `Delete “${$('.asset-name', card).textContent}” with its model, baked maps, layers and deliveries? This cannot be undone.`;
    for (const k of d.querySelectorAll('button')) k.onclick = () => d.close(k.value);
    d.onclose = async () => {
      if (d.returnValue !== 'yes') return;
      try {
        await call('DELETE', `/api/assets/${card.dataset.id}`);
        location.reload();
      } catch (e) {
        complain(words, e.message);
      }
    };
    d.returnValue = '';
    d.showModal();
  };
}
